/** From a message's story to the line on which it is told. */
import { AttemptResult, MessageState } from '../api/schema'
import type { ActView, Step, Story } from '../api/schema'

/** One entry of the line. */
export interface Entry {
  id: string
  kind: 'came' | 'step' | 'act'
  title: string
  /** `done`, or the state of the message at this point. */
  state: MessageState
  /** RFC 3339; empty when nothing timed happened here. */
  at: string
  says: string
  step?: Step
  act?: ActView
}

/** The state of a message after an attempt. */
export const stateAfter: Record<AttemptResult, MessageState> = {
  [AttemptResult.done]: MessageState.done,
  [AttemptResult.retry]: MessageState.retrying,
  [AttemptResult.on_hold]: MessageState.waiting,
  [AttemptResult.failed]: MessageState.failed,
}

const lastOf = (step: Step) => step.attempts.at(-1)

/** How a step stands. Steps that only compute have no attempts: they are done when the message is past them. */
function stateOf(step: Step, { message }: Story): MessageState {
  const last = lastOf(step)
  if (last?.then === AttemptResult.done) return MessageState.done
  if (message.step === step.step && message.state !== MessageState.done) return message.state
  return last ? stateAfter[last.then] : MessageState.done
}

/** Everything that happened, in its order: the arrival, the steps, and what people did. */
export function entries(story: Story): Entry[] {
  const came: Entry = {
    id: 'came',
    kind: 'came',
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
  // Acts stand before the steps that happened after them; steps keep their own order.
  const told: Entry[] = [came]
  let left = acts
  for (const step of steps) {
    const before = left.filter((act) => step.at && act.at <= step.at)
    left = left.filter((act) => !before.includes(act))
    told.push(...before, step)
  }
  return [...told, ...left]
}

/** The entry to look at first: where the message stands, or else its last step. */
export function telling(all: Entry[], { message }: Story): string {
  const steps = all.filter((entry) => entry.kind === 'step')
  const here = steps.find((entry) => entry.title === message.step)
  return (message.state === MessageState.done ? steps.at(-1) : (here ?? steps.at(-1)))?.id ?? 'came'
}

/** The document before a step: what the last step before it made, or what came. */
export function documentBefore(story: Story, step: Step) {
  const at = story.steps.indexOf(step)
  const made = story.steps.slice(0, at).findLast((one) => one.after)
  return made?.after
    ? { document: made.after, label: `after ${made.step}`, step: made.step }
    : { document: story.document, label: 'as it came', step: '' }
}
