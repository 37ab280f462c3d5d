import { MessageState } from '../api/schema'
import type { Message } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'
import { clock } from '../words/format'

/** Returns why a message is not done, or its step; empty if its state is enough. */
export function whyOf({ says, state, step, waits_for, due }: Message): string {
  if (says || state === MessageState.done) return says
  if (waits_for?.startsWith('flow ')) return `${step}: its flow is paused`
  if (waits_for?.startsWith('step ')) return `${step} is on hold: many messages failed there for the same reason`
  if (waits_for) return `${step}: waits for ${titleOf('connections', waits_for)}`
  if (state === MessageState.waiting)
    return due ? `${step}: waits until ${clock(new Date(due), new Date())}` : `${step}: waits`
  return step
}
