<script setup lang="ts">
/** The map table: the source with its values, the rules as one types them, and what they give, side by side. */
import { computed, onBeforeUnmount, ref, shallowRef, watch } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import type { MapDraft, MapOpen, MapProposal, MapStory, MapTried } from '../api/schema'
import CodeView from '../ui/CodeView.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import DraftDialog from './DraftDialog.vue'
import OpenFields from './OpenFields.vue'
import { has, inOrder, standing } from './targets'

const props = defineProps<{ name: string }>()
const story = shallowRef<MapStory>()
const tried = shallowRef<MapTried>()
/** The last outcome without errors: it stays in sight while one types. */
const good = shallowRef<MapTried>()
const trouble = shallowRef<Trouble>()
const text = ref('')
const given = ref('')
const sample = ref('')
const at = ref(0)
const findSource = ref('')
const findTarget = ref('')
const whole = ref(false)
const copied = ref('')
const chosen = ref<{ line: number; from: number; to: number }>()

const proposals = shallowRef(new Map<string, MapProposal>())
const drafting = ref(false)
const taking = ref(false)

const findings = computed(() => inOrder(tried.value?.findings ?? []))
const broken = computed(() => findings.value.some((one) => one.severity === 'error') || !!tried.value?.says)
const changed = computed(() => !!story.value && text.value !== story.value.text)
const source = computed(() => (good.value?.source ?? []).filter((one) => has(findSource.value, one.path, one.value)))
const rules = computed(() => (good.value?.rules ?? []).filter((one) => has(findTarget.value, one.target, one.value)))
/** The fields that the rules as they stand leave unfilled, whether or not the map is sound. */
const open = computed(() => (tried.value?.open ?? []).filter((one) => has(findTarget.value, one.path, one.title)))
const needed = computed(() => open.value.filter((one) => one.required))
const spare = computed(() => open.value.filter((one) => !one.required))
const says = computed(
  () => tried.value && (tried.value.says || standing(findings.value, tried.value.rules, tried.value.source)),
)

async function begin() {
  trouble.value = undefined
  try {
    story.value = await asked(api.GET('/api/maps/{name}', { params: { path: { name: props.name } } }))
    text.value = story.value.text
    const first = story.value.samples[0]
    sample.value = first?.name ?? ''
    given.value = first?.text ?? ''
    await run()
    const proposed = await asked(api.GET('/api/maps/{name}/proposals', { params: { path: { name: props.name } } }))
    proposals.value = new Map(proposed.map((one) => [one.path, one]))
  } catch (error) {
    trouble.value = troubleOf(error)
  }
}
watch(() => props.name, begin, { immediate: true })

let asking = 0
async function run() {
  const own = ++asking
  try {
    const body = { text: text.value, given: given.value, at: at.value }
    const answer = await asked(api.POST('/api/maps/{name}/try', { params: { path: { name: props.name } }, body }))
    // An answer to what has been typed over since says nothing.
    if (own !== asking) return
    trouble.value = undefined
    tried.value = answer
    if (!broken.value) good.value = answer
  } catch (error) {
    if (own === asking) trouble.value = troubleOf(error)
  }
}
let waiting = 0
function soon() {
  clearTimeout(waiting)
  waiting = window.setTimeout(() => void run(), 40)
}
onBeforeUnmount(() => clearTimeout(waiting))
watch([text, given, at], soon)
watch(sample, (now) => {
  const found = story.value?.samples.find((one) => one.name === now)
  if (found) {
    given.value = found.text
    at.value = 0
  }
})

async function take(files: FileList | null | undefined) {
  const file = files?.[0]
  if (!file) return
  sample.value = ''
  at.value = 0
  given.value = await file.text()
}
/** Writes a rule for a field where it belongs in the file. */
async function takeRule(field: MapOpen, proposal: MapProposal | undefined) {
  taking.value = true
  try {
    const { path } = field
    // The lists around a field that nothing is proposed for, as far as they are known from its neighbours.
    const list = path.slice(0, path.lastIndexOf('[].') + 1)
    const beside = [...proposals.value.values()].find((one) => list && one.path.startsWith(list))
    const body = {
      text: text.value,
      path,
      expression: proposal?.expression ?? '',
      within: (proposal ?? beside)?.within ?? [],
    }
    const answer = await asked(api.POST('/api/maps/{name}/rule', { params: { path: { name: props.name } }, body }))
    const before = text.value.split('\n')
    text.value = answer.text
    const line = answer.text.split('\n').findIndex((now, n) => now !== before[n]) + 1
    if (line > 0) show(line)
  } catch (error) {
    trouble.value = troubleOf(error)
  } finally {
    taking.value = false
  }
}
function kept(draft: MapDraft) {
  drafting.value = false
  if (story.value) story.value = { ...story.value, draft }
}
async function dropDraft() {
  try {
    await api.DELETE('/api/maps/{name}/draft', { params: { path: { name: props.name } } })
    if (story.value) story.value = { ...story.value, draft: null }
  } catch (error) {
    trouble.value = troubleOf(error)
  }
}
async function copy(path: string) {
  await navigator.clipboard.writeText(path)
  copied.value = path
}
function show(line: number) {
  chosen.value = { line, from: 0, to: text.value.split('\n')[line - 1]?.length ?? 0 }
}
</script>

<template>
  <div @dragover.prevent @drop.prevent="take($event.dataTransfer?.files)">
    <header class="mb-3 flex flex-wrap items-center gap-3">
      <div class="min-w-0 grow">
        <p class="text-sm"><RouterLink to="/maps" class="link">Maps</RouterLink></p>
        <h1 class="text-xl font-semibold">{{ name }}</h1>
        <p v-if="story" class="font-mono text-sm text-soft">{{ story.map.from }} → {{ story.map.to }}</p>
      </div>
      <label v-if="story?.samples.length" class="flex items-center gap-2 text-sm">
        <span class="text-faint">Tried on</span>
        <select v-model="sample" class="field">
          <option v-if="!sample" value="">a document of yours</option>
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
        <input type="file" class="sr-only" @change="take(($event.target as HTMLInputElement).files)" />
      </label>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-3" @again="story ? run() : begin()" />

    <template v-if="story">
      <p
        v-if="story.draft && story.draft.text !== story.text"
        class="mb-3 flex flex-wrap items-center gap-x-3 rounded-md border border-line bg-raised px-3 py-2 text-sm"
        data-part="draft"
      >
        <span
          >{{ story.draft.by }} keeps a draft of this map. <code>wirewatch map take {{ name }}</code> brings it into the
          folder.</span
        >
        <button v-if="text !== story.draft.text" type="button" class="link" @click="text = story.draft.text">
          Show the draft
        </button>
        <button type="button" class="link" @click="dropDraft">Let go of it</button>
      </p>
      <div
        v-if="says"
        class="mb-3 rounded-md border px-3 py-2"
        :class="broken ? 'border-aside/50 bg-aside/5' : 'border-line bg-raised'"
        data-part="standing"
        role="status"
      >
        <p class="font-medium">
          <span :class="broken ? 'text-aside' : 'text-done'" aria-hidden="true">{{ broken ? '✕' : '✓' }}</span>
          {{ says }}
        </p>
        <ul
          v-if="findings.length"
          class="mt-1 max-h-28 overflow-auto text-sm"
          tabindex="0"
          aria-label="What is told of the map"
        >
          <li v-for="(one, n) in findings" :key="n" :data-finding="one.severity">
            <button type="button" class="text-left hover:underline" @click="show(one.line)">
              <span class="font-mono text-faint">line {{ one.line }}</span> {{ one.says
              }}<span v-if="one.help" class="text-soft">; {{ one.help }}</span>
            </button>
          </li>
        </ul>
      </div>
      <div class="grid items-start gap-3 lg:grid-cols-[minmax(0,3fr)_minmax(0,4fr)_minmax(0,4fr)]">
        <section class="panel min-w-0 overflow-hidden" aria-label="Source">
          <div class="flex min-h-10 items-center gap-2 border-b border-line px-3 py-1">
            <h2 class="font-medium">Source</h2>
            <input
              v-model="findSource"
              type="search"
              class="field ml-auto w-36 py-0.5 text-sm"
              placeholder="Find a field"
              aria-label="Find a field of the source"
            />
          </div>
          <ul
            v-if="good?.source.length"
            class="h-[58vh] overflow-auto py-1 text-sm"
            tabindex="0"
            aria-label="Fields of the source"
          >
            <li v-for="one in source" :key="one.path">
              <button
                type="button"
                class="grid w-full grid-cols-[1rem_minmax(0,1fr)_auto] items-baseline gap-x-1.5 px-2 py-0.5 text-left hover:bg-sunken"
                :title="`Copy ${one.path}`"
                :data-source="one.path"
                :data-used="one.used"
                @click="copy(one.path)"
              >
                <span :class="one.used ? 'text-done' : 'text-faint'" aria-hidden="true">{{
                  one.used ? '✓' : '·'
                }}</span>
                <span class="truncate font-mono"
                  >{{ one.path }}<span class="sr-only">{{ one.used ? ', used' : ', not used' }}</span></span
                >
                <span class="text-xs text-faint">{{
                  copied === one.path ? 'copied' : one.times > 1 ? `× ${one.times}` : ''
                }}</span>
                <span class="col-start-2 col-end-4 truncate text-soft">{{ one.value }}</span>
              </button>
            </li>
          </ul>
          <div v-else class="p-3">
            <label for="given" class="mb-1 block text-sm text-soft"
              >Paste a document, or drop a file anywhere on this page.</label
            >
            <textarea
              id="given"
              v-model="given"
              class="field h-[48vh] w-full font-mono text-sm"
              spellcheck="false"
            ></textarea>
          </div>
        </section>

        <section class="panel min-w-0 overflow-hidden" aria-label="Rules">
          <CodeView
            v-model="text"
            class="h-[calc(58vh+2.5rem)]"
            form="bytes"
            label="The map file"
            editable
            :findings="findings"
            :chosen="chosen"
          >
            <template #title>
              <h2 class="text-base font-medium">Rules</h2>
              <template v-if="changed">
                <span class="text-soft">changed</span>
                <button type="button" class="link whitespace-nowrap" @click="text = story.text">as it runs</button>
                <button type="button" class="link whitespace-nowrap" @click="drafting = true">Keep as draft…</button>
              </template>
            </template>
          </CodeView>
        </section>

        <section class="panel min-w-0 overflow-hidden" aria-label="Target" :class="broken && 'border-dashed'">
          <div class="flex min-h-10 items-center gap-2 border-b border-line px-3 py-1">
            <h2 class="font-medium whitespace-nowrap">
              Target<span v-if="broken" class="font-normal text-soft" title="What the rules gave before they went wrong"
                >, as it was</span
              >
            </h2>
            <label class="flex items-center gap-1.5 text-sm whitespace-nowrap"
              ><input v-model="whole" type="checkbox" /> as a document</label
            >
            <input
              v-if="!whole"
              v-model="findTarget"
              type="search"
              class="field ml-auto w-28 min-w-0 py-0.5 text-sm"
              placeholder="Find a field"
              aria-label="Find a field of the target"
            />
          </div>
          <pre
            v-if="whole"
            class="h-[58vh] overflow-auto p-3 font-mono text-sm"
            tabindex="0"
            aria-label="The document"
            >{{ good?.result }}</pre>
          <div v-else class="h-[58vh] overflow-auto text-sm" tabindex="0" aria-label="Fields of the target">
            <OpenFields
              v-if="needed.length"
              :open="needed"
              :proposals="proposals"
              :busy="taking"
              needed
              @take="takeRule"
            />
            <ul class="py-1">
              <li v-for="(one, n) in rules" :key="n">
                <button
                  type="button"
                  class="w-full px-3 py-0.5 text-left hover:bg-sunken"
                  :data-target="one.target"
                  :title="`Line ${one.line} of the map`"
                  @click="show(one.line)"
                >
                  <span class="block truncate font-mono">{{ one.target }}</span>
                  <span v-if="one.value != null" class="block truncate text-soft">{{ one.value }}</span>
                  <span v-else class="block text-faint italic">nothing: left out</span>
                </button>
              </li>
            </ul>
            <OpenFields v-if="spare.length" :open="spare" :proposals="proposals" :busy="taking" @take="takeRule" />
          </div>
        </section>
      </div>
      <DraftDialog
        v-if="drafting"
        :name="name"
        :before="story.text"
        :after="text"
        :draft="story.draft ?? null"
        @close="drafting = false"
        @kept="kept"
      />
    </template>
  </div>
</template>
