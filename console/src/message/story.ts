/** Converts the history of a message to the entries of its line. */
import { AttemptResult, MessageState } from '../api/schema'
import type { ActView, Step, Story } from '../api/schema'

/** One entry of the line. */
export interface Entry {
  id: string
  kind: 'received' | 'step' | 'act'
  title: string
  /** `done`, or the state of the message at this point. */
  state: MessageState
  /** Time, RFC 3339; empty if it has none. */
  at: string
  says: string
  step?: Step
  act?: ActView
}

/** Returns the state of a message after an attempt. */
export const stateAfter: Record<AttemptResult, MessageState> = {
  [AttemptResult.done]: MessageState.done,
  [AttemptResult.retry]: MessageState.retrying,
  [AttemptResult.on_hold]: MessageState.waiting,
  [AttemptResult.failed]: MessageState.failed,
}

const lastOf = (step: Step) => step.attempts.at(-1)

/** Returns the state of a step. A step that only computes has no attempts: it is done if the message is past it. */
function stateOf(step: Step, { message }: Story): MessageState {
  const last = lastOf(step)
  if (last?.then === AttemptResult.done) return MessageState.done
  if (message.step === step.step && message.state !== MessageState.done) return message.state
  return last ? stateAfter[last.then] : MessageState.done
}

/** Returns all entries in order: the arrival, the steps and acts of people. */
export function entries(story: Story): Entry[] {
  const arrival: Entry = {
    id: 'received',
    kind: 'received',
    title: story.from ? 'arrived' : 'made here',
    state: MessageState.done,
    at: story.message.received,
    says: story.from?.name ?? '',
  }
  const steps = story.steps.map((step): Entry => {
    const last = lastOf(step)
    const tries = step.attempts.length > 1 ? `${step.attempts.length} tries` : ''
    return {
      id: `step-${step.step}`,
      kind: 'step',
      title: step.step,
      state: stateOf(step, story),
      at: last?.at ?? '',
      says: [step.verb, tries, last?.says, step.note].filter(Boolean).join(' · '),
      step,
    }
  })
  const acts = story.acts.map((act, n): Entry => ({
    id: `act-${n}`,
    kind: 'act',
    title: `${act.act} by ${act.by}`,
    state: MessageState.done,
    at: act.at,
    says: act.why,
    act,
  }))
  // Acts come before the steps that happened after them; steps keep their order.
  const ordered: Entry[] = [arrival]
  let left = acts
  for (const step of steps) {
    const before = left.filter((act) => step.at && act.at <= step.at)
    left = left.filter((act) => !before.includes(act))
    ordered.push(...before, step)
  }
  return [...ordered, ...left]
}

/** Returns the entry to show first: the current step, or else the last one. */
export function firstShown(all: Entry[], { message }: Story): string {
  const steps = all.filter((entry) => entry.kind === 'step')
  const here = steps.find((entry) => entry.title === message.step)
  return (message.state === MessageState.done ? steps.at(-1) : (here ?? steps.at(-1)))?.id ?? 'received'
}

/** Returns the document before a step: made by an earlier step, or the received one. */
export function documentBefore(story: Story, step: Step) {
  const at = story.steps.indexOf(step)
  const made = story.steps.slice(0, at).findLast((one) => one.after)
  return made?.after
    ? { document: made.after, label: `after ${made.step}`, step: made.step }
    : { document: story.document, label: 'as received', step: '' }
}
