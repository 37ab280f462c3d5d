import type { Message } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'

/** Why a message is not done, or where it is; empty where its state says it all. */
export function whyOf({ says, state, step, waits_for }: Message): string {
  if (says || state === 'done') return says
  if (waits_for) return `${step}: waits for ${titleOf('connections', waits_for)}`
  return state === 'waiting' ? `${step}: waits` : step
}
