/** A map in the editor, run on a sample at each change. */
import { computed, onScopeDispose, type Ref, ref, shallowRef, watch } from 'vue'
import { api, asked, Trouble, troubleOf } from '../api/client'
import { FindingSeverity } from '../api/schema'
import type { MapDraft, MapOpen, MapProposal, MapStory, MapTried } from '../api/schema'
import { firstChange, inOrder, listOf, standing } from './targets'

/** Milliseconds without a key before the map is run: too short to notice, longer than between two keys of a word. */
const PAUSE = 40

/** A document beside the source: its content and origin. */
export interface Beside {
  from: string
  value: unknown
}

export function useMapTrial(name: Ref<string>) {
  const story = shallowRef<MapStory>()
  const tried = shallowRef<MapTried>()
  /** The last result without errors; it stays visible while typing. */
  const good = shallowRef<MapTried>()
  const trouble = shallowRef<Trouble>()
  const proposals = shallowRef(new Map<string, MapProposal>())
  const taking = ref(false)
  /** The map file in the editor. */
  const text = ref('')
  const given = ref('')
  /** Index of the document in the sample, from 0. */
  const at = ref(0)
  /** Name of the chosen sample; empty for a document of the user. */
  const sample = ref('')
  const beside = shallowRef<Record<string, Beside>>({})
  const meta = shallowRef<Record<string, unknown>>({})

  const findings = computed(() => inOrder(tried.value?.findings ?? []))
  const broken = computed(
    () => findings.value.some((one) => one.severity === FindingSeverity.error) || !!tried.value?.says,
  )
  const says = computed(
    () =>
      tried.value &&
      ((!findings.value.some((one) => one.code === 'map::failed') && tried.value.says) ||
        standing(findings.value, tried.value.rules, tried.value.source)),
  )
  const params = () => ({ path: { name: name.value } })

  async function guarded(work: () => Promise<void>) {
    try {
      await work()
    } catch (error) {
      trouble.value = troubleOf(error)
    }
  }
  const begin = () =>
    guarded(async () => {
      trouble.value = undefined
      story.value = await asked(api.GET('/api/maps/{name}', { params: { path: { name: name.value } } }))
      text.value = story.value.text
      choose(story.value.samples[0]?.name ?? '')
      await run()
      const proposed = await asked(api.GET('/api/maps/{name}/proposals', { params: params() }))
      proposals.value = new Map(proposed.map((one) => [one.path, one]))
    })

  let asking = 0
  async function run() {
    const own = ++asking
    const with_ = Object.fromEntries(Object.entries(beside.value).map(([name, one]) => [name, one.value]))
    const body = { text: text.value, given: given.value, at: at.value, with: with_, meta: meta.value }
    try {
      const answer = await asked(api.POST('/api/maps/{name}/try', { params: params(), body }))
      // Ignore the answer for an earlier text.
      if (own !== asking) return
      trouble.value = undefined
      tried.value = answer
      if (!broken.value) good.value = answer
    } catch (error) {
      if (own === asking) trouble.value = troubleOf(error)
    }
  }
  let waiting: ReturnType<typeof setTimeout> | undefined
  function soon() {
    clearTimeout(waiting)
    waiting = setTimeout(() => void run(), PAUSE)
  }
  onScopeDispose(() => clearTimeout(waiting))

  /** Loads the sample of this name, with the documents beside it. */
  function choose(wanted: string) {
    const found = story.value?.samples.find((one) => one.name === wanted)
    sample.value = found?.name ?? ''
    given.value = found?.text ?? ''
    at.value = 0
    const own = Object.entries(found?.with ?? {})
    beside.value = Object.fromEntries(own.map(([name, value]) => [name, { from: 'from the sample', value }]))
    meta.value = found?.meta ?? {}
  }
  /** Uses a document of the user; the documents beside it stay. */
  async function give(file: File) {
    sample.value = ''
    at.value = 0
    given.value = await file.text()
  }
  /** Sets a document that the map reads beside its source. */
  async function giveBeside(name: string, file: File) {
    try {
      const value: unknown = JSON.parse(await file.text())
      beside.value = { ...beside.value, [name]: { from: file.name, value } }
    } catch {
      trouble.value = new Trouble(`${file.name} is not JSON; $${name} needs a JSON document`, 0)
    }
  }
  /** Adds a rule for a field to the file; returns the changed line, or `undefined` if nothing changed. */
  async function takeRule(field: MapOpen, proposal: MapProposal | undefined) {
    taking.value = true
    let line = 0
    await guarded(async () => {
      const { path } = field
      const within = (proposal ?? listOf(path, proposals.value.values()))?.within ?? []
      const body = { text: text.value, path, expression: proposal?.expression ?? '', within }
      const answer = await asked(api.POST('/api/maps/{name}/rule', { params: params(), body }))
      line = firstChange(text.value, answer.text)
      text.value = answer.text
    })
    taking.value = false
    return line
  }
  const saved = (draft: MapDraft | null) => {
    if (story.value) story.value = { ...story.value, draft }
  }
  const dropDraft = () =>
    guarded(async () => {
      await asked(api.DELETE('/api/maps/{name}/draft', { params: params() }))
      saved(null)
    })

  watch(name, begin, { immediate: true })
  watch([text, given, at, beside], soon)
  return {
    ...{ story, tried, good, trouble, proposals, taking, text, given, at, sample, beside, findings, broken, says },
    ...{ begin, run, choose, give, giveBeside, takeRule, saved, dropDraft },
  }
}
