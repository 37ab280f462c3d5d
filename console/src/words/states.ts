/** States and verdicts, each with a word, a symbol and a colour. */
import { HoldState, MessageState, OrderState, Verdict } from '../api/schema'
export interface Look {
  /** A symbol, so that the state can be read without colour. */
  mark: string
  /** Name of its colour in the design system. */
  tone: 'running' | 'waiting' | 'retrying' | 'failed' | 'done' | 'ended'
}

const looks: Record<MessageState | Verdict | OrderState | HoldState, Look> = {
  running: { mark: '●', tone: 'running' },
  waiting: { mark: 'Ⅱ', tone: 'waiting' },
  retrying: { mark: '↻', tone: 'retrying' },
  failed: { mark: '▲', tone: 'failed' },
  done: { mark: '✓', tone: 'done' },
  skipped: { mark: '↷', tone: 'ended' },
  discarded: { mark: '✕', tone: 'ended' },
  received: { mark: '✓', tone: 'done' },
  splitting: { mark: '●', tone: 'running' },
  duplicate: { mark: '≡', tone: 'ended' },
  rejected: { mark: '✕', tone: 'failed' },
  resolved: { mark: '■', tone: 'ended' },
  open: { mark: '●', tone: 'running' },
  trouble: { mark: '▲', tone: 'failed' },
  'on-hold': { mark: 'Ⅱ', tone: 'waiting' },
  'in-use': { mark: '●', tone: 'done' },
}

export const lookOf = (state: string): Look => (looks as Record<string, Look>)[state] ?? { mark: '○', tone: 'ended' }

export const messageStates = Object.values(MessageState)
export const verdicts = Object.values(Verdict)
export const orderStates = Object.values(OrderState)
export const holdStates = Object.values(HoldState)
/** States in which a message stays until a person acts. */
export const restStates = [MessageState.failed, MessageState.done, MessageState.skipped, MessageState.discarded]
