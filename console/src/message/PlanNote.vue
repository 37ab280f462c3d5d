<script setup lang="ts">
/** The plan of a resend or an amendment: release, skipped steps, and the next request. */
import { computed } from 'vue'
import { MessageState } from '../api/schema'
import type { ActPlan } from '../api/schema'
import CodeView from '../ui/CodeView.vue'
import { listed } from '../words/format'

const props = defineProps<{ plan: ActPlan }>()
const next = computed(() => props.plan.next)
const fails = computed(() => next.value.state === MessageState.failed)
const release = computed(() => {
  const { release, before, says } = props.plan
  if (says) return `Release ${release}, as before: ${says}.`
  return release === before ? `Release ${release}.` : `Release ${release}, the current one, instead of ${before}.`
})
</script>

<template>
  <section class="panel mt-3 p-3 text-sm" aria-label="What follows" data-part="plan">
    <p>
      {{ release }}
      <span v-if="plan.changes.length" class="text-soft"
        >Changed since: {{ listed(plan.changes.map((change) => change.file)) }}.</span
      >
    </p>
    <p v-if="plan.skipped.length" class="text-soft">Complete, not done again: {{ listed(plan.skipped) }}.</p>
    <p v-if="fails" class="mt-1 font-medium text-failed">
      ▲ It would fail again at step {{ next.step }}: {{ next.says }}
    </p>
    <details v-else-if="next.request" class="mt-1">
      <summary class="cursor-pointer">
        Next, at step {{ next.step }}: <code>{{ next.request.line }}</code> at {{ next.request.connection }}
      </summary>
      <CodeView
        v-if="next.request.body"
        class="panel mt-2 h-[24vh]"
        :model-value="next.request.body.text"
        :form="next.request.body.form"
        label="The next request"
      />
    </details>
    <p v-else class="mt-1 text-soft">
      No request follows: the message is then {{ next.state }}<template v-if="next.says">: {{ next.says }}</template
      >.
    </p>
  </section>
</template>
