import { MessageState } from '../api/schema'
import type { Message } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'
import { clock } from '../words/format'

/** Why a message is not done, or where it is; empty where its state says it all. */
export function whyOf({ says, state, step, waits_for, due }: Message): string {
  if (says || state === MessageState.done) return says
  if (waits_for?.startsWith('flow ')) return `${step}: waits until its flow goes on`
  if (waits_for?.startsWith('step ')) return `${step} is on hold: many messages failed there for the same reason`
  if (waits_for) return `${step}: waits for ${titleOf('connections', waits_for)}`
  if (state === MessageState.waiting)
    return due ? `${step}: waits until ${clock(new Date(due), new Date())}` : `${step}: waits`
  return step
}
