import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { effectScope, ref } from 'vue'
import { api } from '../api/client'
import type { MapStory, MapTried } from '../api/schema'
import { useMapTrial } from './useMapTrial'

const story: MapStory = {
  map: { name: 'm', from: 'order', to: 'pick', rules: 1, used_by: [], cases: 0, draft: false, changed: null },
  text: 'from = "order"',
  samples: [
    { name: 'one', text: '{"no":1}', with: {}, meta: {} },
    { name: 'two', text: '{"no":2}', with: { items: [7] }, meta: { by: 'post' } },
  ],
  draft: { text: 'from = "other"', by: 'ada', at: '2026-11-26T08:00:00Z' },
}
const sound: MapTried = {
  findings: [],
  documents: 1,
  title: '',
  with: ['items'],
  source: [],
  rules: [{ target: 'order', value: '1', line: 2 }],
  open: [],
  result: '{}',
  says: '',
}
const wrong: MapTried = { ...sound, rules: [], says: 'maps/m.toml:2: no value' }

beforeEach(() => void vi.useFakeTimers())
afterEach(() => {
  vi.useRealTimers()
  vi.restoreAllMocks()
})

type Body = { text: string; given: string; at: number; with: object; meta: object }

/** A trial with given answers of the service, in turn; without one, the map has no errors. */
async function scene(answers: (MapTried | number)[] = []) {
  const asked: Body[] = []
  const answer = (data: unknown, status = 200) => ({ data, response: new Response(null, { status }) })
  vi.spyOn(api, 'GET').mockImplementation(((path: string) =>
    Promise.resolve(answer(path.endsWith('proposals') ? [] : story))) as never)
  vi.spyOn(api, 'DELETE').mockImplementation((() => Promise.resolve(answer(undefined, 204))) as never)
  vi.spyOn(api, 'POST').mockImplementation(((path: string, { body }: { body: Body }) => {
    if (path.endsWith('rule')) return Promise.resolve(answer({ text: `${body.text}\n[set]\nmore = "no"` }))
    asked.push(body)
    const next = answers.shift() ?? sound
    return Promise.resolve(typeof next === 'number' ? answer(undefined, next) : answer(next))
  }) as never)
  const scope = effectScope()
  const trial = scope.run(() => useMapTrial(ref('m')))!
  await vi.runAllTimersAsync()
  return { asked, scope, trial }
}
const soon = () => vi.runAllTimersAsync()

test('a map is tried on its first sample, and at each change once', async () => {
  const { asked, trial } = await scene()
  expect(asked.at(0)).toMatchObject({ text: story.text, given: '{"no":1}', at: 0 })
  const before = asked.length
  trial.text.value = 'from = "orde'
  trial.text.value = 'from = "order"  # mine'
  await soon()
  expect(asked.slice(before).map((body) => body.text)).toEqual(['from = "order"  # mine'])
})

test('a sample brings its other documents and its meta', async () => {
  const { asked, trial } = await scene()
  trial.at.value = 3
  trial.choose('two')
  await soon()
  expect(asked.at(-1)).toMatchObject({ given: '{"no":2}', at: 0, with: { items: [7] }, meta: { by: 'post' } })
  expect(trial.beside.value.items?.from).toBe('from the sample')
})

test('other documents are given as a file, and stay with a pasted document', async () => {
  const { asked, trial } = await scene()
  await trial.giveBeside('items', new File(['[8]'], 'items.json'))
  await trial.give(new File(['{"no":3}'], 'own.json'))
  await soon()
  expect(asked.at(-1)).toMatchObject({ given: '{"no":3}', with: { items: [8] } })
  expect([trial.sample.value, trial.beside.value.items?.from]).toEqual(['', 'items.json'])
  await trial.giveBeside('items', new File(['no, name'], 'items.csv'))
  expect(trial.trouble.value?.message).toBe('items.csv is not JSON; $items needs a JSON document')
  expect(trial.beside.value.items?.value).toEqual([8])
})

test('the last sound outcome stays in sight while the map is broken or the service is away', async () => {
  const { trial } = await scene([sound, sound, wrong, 503, sound])
  trial.text.value = 'one'
  await soon()
  expect([trial.broken.value, trial.good.value?.rules.length, trial.says.value]).toEqual([true, 1, wrong.says])
  trial.text.value = 'two'
  await soon()
  expect(trial.trouble.value?.status).toBe(503)
  trial.text.value = 'three'
  await soon()
  expect([trial.trouble.value, trial.broken.value]).toEqual([undefined, false])
})

test('a rule is written where the service puts it, and its line is returned', async () => {
  const { trial } = await scene()
  const field = { path: 'more', kind: null, required: true, title: '' }
  expect(await trial.takeRule(field, undefined)).toBe(2)
  expect([trial.text.value.endsWith('more = "no"'), trial.taking.value]).toEqual([true, false])
})

test('a draft that is let go of is gone', async () => {
  const { trial } = await scene()
  expect(trial.story.value?.draft?.by).toBe('ada')
  await trial.dropDraft()
  expect(trial.story.value?.draft).toBeNull()
})

test('nothing is asked any more when the page is left', async () => {
  const { asked, scope, trial } = await scene()
  const before = asked.length
  trial.text.value = 'typed'
  scope.stop()
  await soon()
  expect(asked.length).toBe(before)
})
