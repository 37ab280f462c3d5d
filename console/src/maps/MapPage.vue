<script setup lang="ts">
/** The map table: source with values, rules, and result, side by side. */
import { computed, ref, toRef } from 'vue'
import type { MapDraft, MapOpen, MapProposal } from '../api/schema'
import CodeView from '../ui/CodeView.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import ChangeDialog from '../releases/ChangeDialog.vue'
import { useWorkspace } from '../shell/useWorkspace'
import DraftDialog from './DraftDialog.vue'
import SourceFields from './SourceFields.vue'
import TargetFields from './TargetFields.vue'
import { useMapTrial } from './useMapTrial'

const props = defineProps<{ name: string }>()
const trial = useMapTrial(toRef(props, 'name'))
const { story, tried, good, trouble, proposals, taking, text, given, at, sample, beside, findings, broken, says } =
  trial
const chosen = ref<{ line: number; from: number; to: number }>()
const drafting = ref(false)
const trying = ref(false)
const workspace = useWorkspace()
/** Findings in other files have no line in the editor. */
const file = computed(() => `maps/${props.name}.toml`)
const own = computed(() => findings.value.filter((one) => one.file === file.value))
const change = computed(() => [{ file: file.value, before: story.value?.text ?? '', after: text.value }])
const changed = computed(() => !!story.value && text.value !== story.value.text)

function give(files: FileList | null | undefined) {
  const file = files?.[0]
  if (file) void trial.give(file)
}
async function takeRule(field: MapOpen, proposal: MapProposal | undefined) {
  const line = await trial.takeRule(field, proposal)
  if (line > 0) show(line)
}
function saved(draft: MapDraft) {
  drafting.value = false
  trial.saved(draft)
}
function deployed() {
  trying.value = false
  void trial.begin()
}
function show(line: number) {
  chosen.value = { line, from: 0, to: text.value.split('\n')[line - 1]?.length ?? 0 }
}
</script>

<template>
  <div @dragover.prevent @drop.prevent="give($event.dataTransfer?.files)">
    <header class="mb-3 flex flex-wrap items-center gap-3">
      <div class="min-w-0 grow">
        <p class="text-sm"><RouterLink to="/maps" class="link">Maps</RouterLink></p>
        <h1 class="text-xl font-semibold">{{ name }}</h1>
        <p v-if="story" class="text-sm text-soft">
          <span class="font-mono">{{ story.map.from }} → {{ story.map.to }}</span
          ><template v-if="story.map.changed"
            >; changed <TimeText :at="story.map.changed.at" as="distance" /> by {{ story.map.changed.by }}</template
          >
        </p>
      </div>
      <label v-if="story?.samples.length" class="flex items-center gap-2 text-sm">
        <span class="text-faint">Sample</span>
        <select :value="sample" class="field" @change="trial.choose(($event.target as HTMLSelectElement).value)">
          <option v-if="!sample" value="">your own document</option>
          <option v-for="one in story.samples" :key="one.name" :value="one.name">{{ one.name }}</option>
        </select>
      </label>
      <label v-if="(good?.documents ?? 0) > 1" class="flex items-center gap-2 text-sm">
        <span class="text-faint">Document</span>
        <select v-model="at" class="field">
          <option v-for="n in good?.documents ?? 0" :key="n" :value="n - 1">{{ n }} of {{ good?.documents }}</option>
        </select>
      </label>
      <label class="button cursor-pointer focus-within:outline-2">
        Try another document…
        <input type="file" class="sr-only" @change="give(($event.target as HTMLInputElement).files)" />
      </label>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-3" @again="story ? trial.run() : trial.begin()" />

    <template v-if="story">
      <p
        v-if="story.draft && story.draft.text !== story.text"
        class="mb-3 flex flex-wrap items-center gap-x-3 rounded-md border border-line bg-raised px-3 py-2 text-sm"
        data-part="draft"
      >
        <span
          >This map has a draft of {{ story.draft.by }}. <code>wirewatch map take {{ name }}</code> writes it to the
          folder.</span
        >
        <button v-if="text !== story.draft.text" type="button" class="link" @click="text = story.draft.text">
          Show the draft
        </button>
        <button type="button" class="link" @click="trial.dropDraft">Delete the draft</button>
      </p>
      <div
        v-if="says"
        class="mb-3 rounded-md border px-3 py-2"
        :class="broken ? 'border-failed/50 bg-failed/5' : 'border-line bg-raised'"
        data-part="standing"
        role="status"
      >
        <p class="font-medium">
          <span :class="broken ? 'text-failed' : 'text-done'" aria-hidden="true">{{ broken ? '✕' : '✓' }}</span>
          {{ says }}
        </p>
        <ul v-if="findings.length" class="mt-1 max-h-28 overflow-auto text-sm" tabindex="0" aria-label="Findings">
          <li v-for="(one, n) in findings" :key="n" :data-finding="one.severity">
            <p v-if="one.file !== file">
              <span class="font-mono text-faint">{{ one.file }}:{{ one.line }}</span> {{ one.says }}
            </p>
            <button v-else type="button" class="text-left hover:underline" @click="show(one.line)">
              <span class="font-mono text-faint">line {{ one.line }}</span> {{ one.says
              }}<span v-if="one.help" class="text-soft">; {{ one.help }}</span>
            </button>
          </li>
        </ul>
      </div>
      <div class="grid items-start gap-3 lg:grid-cols-[minmax(0,3fr)_minmax(0,4fr)_minmax(0,4fr)]">
        <SourceFields
          v-model:given="given"
          :fields="good?.source ?? []"
          :reads="tried?.with ?? []"
          :beside="beside"
          @beside="trial.giveBeside"
        />
        <section class="panel min-w-0 overflow-hidden" aria-label="Rules">
          <CodeView
            v-model="text"
            class="h-[calc(58vh+2.5rem)]"
            form="bytes"
            label="The map file"
            editable
            :findings="own"
            :chosen="chosen"
          >
            <template #title>
              <h2 class="text-base font-medium">Rules</h2>
              <template v-if="changed">
                <span class="text-soft">changed</span>
                <button type="button" class="link whitespace-nowrap" @click="text = story.text">running version</button>
                <button type="button" class="link whitespace-nowrap" @click="drafting = true">Store as draft…</button>
                <button type="button" class="link whitespace-nowrap" @click="trying = true">
                  {{ workspace.deploy_from_console ? 'Run cases and deploy…' : 'Run cases…' }}
                </button>
              </template>
            </template>
          </CodeView>
        </section>

        <TargetFields
          :good="good"
          :open="tried?.open ?? []"
          :proposals="proposals"
          :broken="broken"
          :busy="taking"
          @take="takeRule"
          @show="show"
        />
      </div>
      <DraftDialog
        v-if="drafting"
        :name="name"
        :before="story.text"
        :after="text"
        :draft="story.draft ?? null"
        @close="drafting = false"
        @saved="saved"
      />
      <ChangeDialog
        v-if="trying"
        :title="`Cases with this change of ${name}`"
        :files="change"
        @close="trying = false"
        @deployed="deployed"
      />
    </template>
  </div>
</template>
