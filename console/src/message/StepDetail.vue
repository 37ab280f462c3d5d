<script setup lang="ts">
/** One step: the document before and after, or request and answer of every attempt. */
import { computed, ref } from 'vue'
import { DocumentForm } from '../api/schema'
import type { Attempt, Step, Story } from '../api/schema'
import CodeView from '../ui/CodeView.vue'
import CompareView from '../ui/CompareView.vue'
import StateBadge from '../ui/StateBadge.vue'
import TimeText from '../ui/TimeText.vue'
import { bytes } from '../words/format'
import { stateAfter, documentBefore } from './story'
import TroubleNote from '../ui/TroubleNote.vue'
import { useWhole } from './useWhole'

const props = defineProps<{ story: Story; step: Step }>()
const before = computed(() => documentBefore(props.story, props.step))
const none = { form: DocumentForm.bytes, text: '', size: 0, cut: false }
const id = () => props.story.message.id
const left = useWhole(
  id,
  () => before.value.step,
  () => before.value.document,
)
const right = useWhole(
  id,
  () => props.step.step,
  () => props.step.after ?? none,
)
const trouble = computed(() => left.trouble.value ?? right.trouble.value)
const sameForm = computed(() => left.document.value.form === right.document.value.form)

/** The shown attempt: the newest, until one is chosen. */
const picked = ref<number>()
const attempt = computed<Attempt | undefined>(() => props.step.attempts[picked.value ?? props.step.attempts.length - 1])
const variables = computed(() => Object.entries(props.story.variables as Record<string, unknown>))
const leftText = computed(() => left.document.value.text)
const rightText = computed(() => right.document.value.text)
async function wholes() {
  await Promise.all([left.whole(), right.whole()])
}
</script>

<template>
  <div>
    <template v-if="step.after">
      <p
        v-if="left.document.value.cut || right.document.value.cut"
        class="flex items-center gap-3 border-b border-line px-3 py-2 text-sm text-soft"
      >
        The start of {{ bytes(right.document.value.size) }}.
        <button type="button" class="button" @click="wholes">Show all of it</button>
      </p>
      <TroubleNote v-if="trouble" :trouble="trouble" class="m-3" />
      <CompareView
        v-if="sameForm"
        :form="right.document.value.form"
        :before="leftText"
        :after="rightText"
        :before-label="`Before: ${before.label}`"
        :after-label="`After ${step.step}`"
      />
      <div v-else class="grid xl:grid-cols-2">
        <CodeView
          :model-value="leftText"
          :form="left.document.value.form"
          label="Before the step"
          class="h-[calc(100vh-14.5rem)] min-h-80"
        >
          <template #title
            ><span class="heading">Before: {{ before.label }}</span></template
          >
        </CodeView>
        <CodeView
          :model-value="rightText"
          :form="right.document.value.form"
          label="After the step"
          class="h-[calc(100vh-14.5rem)] min-h-80 border-line max-xl:border-t xl:border-l"
        >
          <template #title
            ><span class="heading">After {{ step.step }}</span></template
          >
        </CodeView>
      </div>
    </template>
    <template v-else-if="step.request || step.attempts.length">
      <div v-if="step.attempts.length" class="border-b border-line">
        <table class="w-full text-sm">
          <caption class="sr-only">
            Attempts
          </caption>
          <thead>
            <tr class="text-left">
              <th scope="col" class="heading px-3 py-2">Try</th>
              <th scope="col" class="heading px-3 py-2">When</th>
              <th scope="col" class="heading px-3 py-2">Status</th>
              <th scope="col" class="heading px-3 py-2">What the flow reported</th>
              <th scope="col" class="heading px-3 py-2">Then</th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="(one, n) in step.attempts"
              :key="n"
              class="border-t border-line/60"
              :class="one === attempt && 'bg-sunken'"
            >
              <td class="px-3 py-1.5">
                <button type="button" class="link" :aria-pressed="one === attempt" @click="picked = n">
                  {{ n + 1 }}
                </button>
              </td>
              <td class="px-3 py-1.5"><TimeText :at="one.at" /></td>
              <td class="px-3 py-1.5">{{ one.status || '–' }}</td>
              <td class="px-3 py-1.5 text-soft">{{ one.says || 'succeeded' }}</td>
              <td class="px-3 py-1.5">
                <StateBadge :state="stateAfter[one.then] ?? one.then" />
                <span v-if="one.due" class="ml-2 text-xs text-faint">next <TimeText :at="one.due" /></span>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <ul v-if="step.request?.with.length" class="flex flex-wrap gap-x-5 border-b border-line px-3 py-2 text-sm">
        <li v-for="one in step.request.with" :key="one" class="text-soft">{{ one }}</li>
      </ul>
      <div class="grid xl:grid-cols-2">
        <CodeView
          v-if="step.request"
          :model-value="step.request.body?.text ?? ''"
          :form="step.request.body?.form ?? DocumentForm.bytes"
          label="Request"
          class="h-[calc(100vh-20rem)] min-h-72"
        >
          <template #title>
            <span class="heading">Request</span>
            <code class="truncate font-mono text-xs">{{ step.request.line }}</code>
            <RouterLink :to="`/connections#${step.request.connection}`" class="link">{{
              step.request.connection
            }}</RouterLink>
            <span v-if="step.request.body?.cut" class="whitespace-nowrap text-faint"
              >the start of {{ bytes(step.request.body.size) }}</span
            >
          </template>
        </CodeView>
        <CodeView
          v-if="attempt?.answer"
          :key="`${picked}`"
          :model-value="attempt.answer.text"
          :form="attempt.answer.form"
          label="Answer"
          class="h-[calc(100vh-20rem)] min-h-72 border-line max-xl:border-t xl:border-l"
        >
          <template #title>
            <span class="heading">Answer</span><span v-if="attempt.status">{{ attempt.status }}</span>
            <span v-if="attempt.answer.cut" class="text-faint">the start of {{ bytes(attempt.answer.size) }}</span>
          </template>
        </CodeView>
        <p v-else-if="attempt" class="p-4 text-sm text-soft">{{ attempt.says || 'The answer is empty.' }}</p>
        <p v-else class="p-4 text-sm text-soft">Not tried yet.</p>
      </div>
    </template>
    <p v-else-if="step.note" class="p-4">{{ step.note }}</p>
    <p v-else class="p-4 text-soft">This step changed nothing in the document.</p>
    <details v-if="variables.length" class="border-t border-line px-3 py-2 text-sm">
      <summary class="font-medium">Variables</summary>
      <dl class="mt-1 grid grid-cols-[max-content_1fr] gap-x-4 gap-y-1">
        <template v-for="[name, value] in variables" :key="name">
          <dt class="font-mono text-xs text-thread">${{ name }}</dt>
          <dd class="font-mono text-xs break-all">{{ JSON.stringify(value) }}</dd>
        </template>
      </dl>
    </details>
  </div>
</template>
