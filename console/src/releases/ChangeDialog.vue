<script setup lang="ts">
/** Changed files of the running release: their difference, the cases with them, and the deploy where the workspace allows it. */
import { computed, onMounted, ref, shallowRef } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { CaseOutcome } from '../api/schema'
import type { CaseView, ProposedFile } from '../api/schema'
import { refreshWorkspace, useWorkspace } from '../shell/useWorkspace'
import CodeView from '../ui/CodeView.vue'
import CompareView from '../ui/CompareView.vue'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAct } from '../ui/useAct'
import { count } from '../words/format'

const props = defineProps<{ title: string; files: ProposedFile[] }>()
const emit = defineEmits<{ close: []; deployed: [release: number] }>()
const workspace = useWorkspace()
const chosen = ref((props.files.find((one) => one.file.startsWith('flows/')) ?? props.files[0])?.file ?? '')
const file = computed(() => props.files.find((one) => one.file === chosen.value))
const cases = shallowRef<CaseView[]>()
/** Why the cases could not be run. */
const refused = shallowRef<Trouble>()
const failed = computed(() => cases.value?.filter((one) => one.outcome !== CaseOutcome.passed) ?? [])
const why = ref('')
const skip = ref(false)
const { busy, trouble, carryOut } = useAct(() => {})

const texts = (of: (file: ProposedFile) => string | null) =>
  Object.fromEntries(props.files.flatMap((one) => (of(one) === null ? [] : [[one.file, of(one) as string]])))
const files = () => texts((one) => one.after)

onMounted(async () => {
  try {
    cases.value = await asked(api.POST('/api/cases', { body: { files: files() } }))
  } catch (error) {
    refused.value = troubleOf(error)
  }
})
const deploy = () =>
  carryOut(async () => {
    const body = { files: files(), before: texts((one) => one.before), why: why.value, skip_cases: skip.value }
    const { release } = await asked(api.POST('/api/releases/changes', { body }))
    await refreshWorkspace()
    emit('deployed', release)
  })

const words: Record<CaseOutcome, string> = {
  passed: 'passed',
  differs: 'failed',
  new: 'has no expected result yet',
  broken: 'cannot be run',
}
const form = (name: string) => (name.endsWith('.json') ? 'json' : 'bytes')
</script>

<template>
  <ModalDialog :open="true" wide :title="title" @close="$emit('close')">
    <slot />
    <div v-if="props.files.length > 1" class="mb-2 flex flex-wrap gap-1" role="group" aria-label="Files">
      <button
        v-for="one in props.files"
        :key="one.file"
        type="button"
        class="button px-2! py-0.5! font-mono text-xs!"
        :class="one.file === chosen && 'bg-sunken'"
        :aria-pressed="one.file === chosen"
        :data-file="one.file"
        @click="chosen = one.file"
      >
        <span class="text-faint" aria-hidden="true">{{ one.before === null ? '+' : '±' }}</span> {{ one.file }}
      </button>
    </div>
    <CodeView
      v-if="file?.before === null"
      :key="file.file"
      class="h-[34vh] rounded-md border border-line"
      :model-value="file.after"
      :form="form(file.file)"
      :label="file.file"
    >
      <template #title><span class="text-faint">new file</span></template>
    </CodeView>
    <CompareView
      v-else-if="file"
      class="max-h-[34vh] overflow-auto rounded-md border border-line"
      :form="form(file.file)"
      :before="file.before"
      :after="file.after"
      before-label="running release"
      after-label="as it is here"
    />
    <section class="mt-3 text-sm" aria-label="Cases" data-part="cases">
      <p v-if="!cases && !refused" class="text-soft" role="status">The cases are being run…</p>
      <TroubleNote v-if="refused" :trouble="refused" />
      <template v-if="cases">
        <p class="font-medium" role="status">
          <span :class="failed.length ? 'text-failed' : 'text-done'" aria-hidden="true">{{
            failed.length ? '▲' : '✓'
          }}</span>
          {{ count(cases.length, 'case') }}: {{ cases.length - failed.length }} passed, {{ failed.length }} failed
        </p>
        <ul v-if="failed.length" class="mt-1 max-h-40 overflow-auto" tabindex="0" aria-label="Cases that failed">
          <li v-for="one in failed" :key="one.name" class="py-0.5" :data-case="one.name">
            <p>
              <span class="font-medium">{{ one.name }}</span> {{ words[one.outcome]
              }}<template v-if="one.says">: {{ one.says }}</template>
              <span v-if="one.title" class="text-soft"> ({{ one.title }})</span>
            </p>
            <p v-for="(difference, n) in one.differences.slice(0, 5)" :key="n" class="font-mono text-xs text-soft">
              {{ difference.at || 'the document' }}: expected
              <del class="text-failed no-underline">{{ difference.expected ?? 'nothing' }}</del>, found
              <ins class="text-done no-underline">{{ difference.actual ?? 'nothing' }}</ins>
            </p>
            <p v-if="one.differences.length > 5" class="text-xs text-soft">
              and {{ count(one.differences.length - 5, 'more difference') }}
            </p>
          </li>
        </ul>
      </template>
    </section>
    <form class="mt-3" @submit.prevent="deploy">
      <template v-if="workspace.deploy_from_console">
        <label class="block text-sm font-medium" for="deploy-why">Reason (shown in the list of releases)</label>
        <input id="deploy-why" v-model="why" class="field mt-1 w-full" required autocomplete="off" />
        <label v-if="failed.length" class="mt-2 flex items-center gap-2 text-sm">
          <input v-model="skip" type="checkbox" /> Deploy although
          {{ count(failed.length, 'case fails', 'cases fail') }}
        </label>
      </template>
      <p v-else class="text-sm text-soft">
        This workspace is deployed from its folder only. <code>deploy_from_console = true</code> in
        <code>workspace.toml</code> allows it here.
      </p>
      <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">Back</button>
        <button
          v-if="workspace.deploy_from_console"
          type="submit"
          class="button button-main"
          :disabled="busy || !cases || (failed.length > 0 && !skip)"
        >
          Deploy
        </button>
      </div>
    </form>
  </ModalDialog>
</template>
