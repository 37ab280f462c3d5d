import { expect, test } from 'vitest'
import { AttemptResult, DocumentForm, MessageState, PersonAct, StepVerb } from '../api/schema'
import type { ActView, Attempt, Step, Story } from '../api/schema'
import { documentBefore, entries, firstShown } from './story'

const document = (text: string) => ({ form: DocumentForm.json, text, size: text.length, cut: false })
const attempt = (then: AttemptResult, at: string): Attempt => ({
  at,
  number: 1,
  status: null,
  says: then === AttemptResult.done ? '' : 'no',
  answer: null,
  then,
  due: null,
})
const step = (name: string, more: Partial<Step> = {}): Step => ({
  step: name,
  verb: StepVerb.map,
  note: '',
  after: null,
  request: null,
  attempts: [],
  ...more,
})
const act = (at: string): ActView => ({ at, by: 'ada', act: PersonAct.resent, why: 'corrected there' })
const story = (state: MessageState, at: string, steps: Step[], acts: ActView[] = []): Story => ({
  release: 1,
  helps: null,
  message: {
    id: '1',
    flow: 'orders',
    partner: null,
    key: '',
    result: null,
    due: null,
    reason: null,
    state,
    step: at,
    tries: 0,
    waits_for: null,
    code: null,
    says: '',
    arrival: '',
    release: 1,
    received: '07:00',
    changed: '',
  },
  from: null,
  advice: '',
  meta: {},
  document: document('received'),
  steps,
  variables: {},
  acts,
  beside: [],
})

test('the line tells arrival, steps and acts in their order', () => {
  const steps = [
    step('to-order', { after: document('x') }),
    step('book', {
      verb: StepVerb.call,
      attempts: [attempt(AttemptResult.failed, '07:01'), attempt(AttemptResult.done, '07:03')],
    }),
  ]
  const listed = entries(story(MessageState.done, 'book', steps, [act('07:02')]))
  expect(listed.map((one) => `${one.title}: ${one.state}`)).toEqual([
    'made here: done',
    'to-order: done',
    'resent by ada: done',
    'book: done',
  ])
  expect(listed[3]!.says).toBe('call · 2 tries')
})

test('the state of a step is that of the message that is at it', () => {
  const steps = [step('to-order'), step('book', { attempts: [attempt(AttemptResult.on_hold, '07:01')] })]
  expect(entries(story(MessageState.waiting, 'book', steps)).map((one) => one.state)).toEqual([
    'done',
    'done',
    'waiting',
  ])
  expect(
    entries(story(MessageState.failed, 'book', [step('book', { attempts: [attempt(AttemptResult.failed, '')] })]))[1]!
      .state,
  ).toBe('failed')
})

test('an act behind everything comes last', () => {
  expect(
    entries(
      story(
        MessageState.running,
        'book',
        [step('book', { attempts: [attempt(AttemptResult.failed, '07:01')] })],
        [act('07:09')],
      ),
    ).at(-1)!.kind,
  ).toBe('act')
})

test('the step of the message is shown first', () => {
  const steps = [step('to-order'), step('book'), step('tell')]
  const at = (state: MessageState, where: string) => {
    const one = story(state, where, steps)
    return firstShown(entries(one), one)
  }
  expect([at(MessageState.failed, 'book'), at(MessageState.done, 'tell'), at(MessageState.failed, 'gone')]).toEqual([
    'step-book',
    'step-tell',
    'step-tell',
  ])
  expect(firstShown([], story(MessageState.running, '', []))).toBe('received')
})

test('before a step is what the last step before it made', () => {
  const steps = [step('to-order', { after: document('order') }), step('keep'), step('book')]
  const one = story(MessageState.done, 'book', steps)
  expect([documentBefore(one, steps[0]!).label, documentBefore(one, steps[2]!).document.text]).toEqual([
    'as received',
    'order',
  ])
})
