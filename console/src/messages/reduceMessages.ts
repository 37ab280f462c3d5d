/** A live list of messages: loaded pages, updated by pulses. */
import { EventKind, MessageState } from '../api/schema'
import type { LiveEvent, Message, Messages, Pulse } from '../api/schema'
import { asMessage, type Filters, surelyFits } from './filters'

export interface Listed {
  rows: Message[]
  /** Cursor of the next page; absent on the last page. */
  next?: string | null
  /** Oldest first; otherwise newest first. */
  oldest?: boolean
}

export type Happening =
  | { kind: 'first'; page: Messages; oldest?: boolean }
  | { kind: 'older'; page: Messages }
  | { kind: 'pulse'; pulse: Pulse; filters: Filters }

/** Most rows in memory; older ones are loaded again when needed. */
const MOST = 3000

export function reduceMessages(listed: Listed, happening: Happening): Listed {
  switch (happening.kind) {
    case 'first': {
      const { page, oldest } = happening
      const last = page.messages.at(-1)
      // Later pages stay, unless the first page is now the last.
      const behind = page.next && last ? listed.rows.filter((row) => inOrder(last, row, oldest) < 0) : []
      return { rows: [...page.messages, ...behind], next: behind.length ? listed.next : page.next, oldest }
    }
    case 'older': {
      const known = new Set(listed.rows.map((row) => row.id))
      const fresh = happening.page.messages.filter((row) => !known.has(row.id))
      return { ...listed, rows: [...listed.rows, ...fresh], next: happening.page.next }
    }
    case 'pulse':
      return pulsed(listed, happening.pulse, happening.filters)
  }
}

function pulsed(listed: Listed, { changes }: Pulse, filters: Filters): Listed {
  const news = new Map(changes.filter((one) => one.kind === EventKind.message).map((one) => [one.id ?? '', one]))
  if (news.size === 0) return listed
  let changed = false
  const rows = listed.rows.map((row) => {
    const change = news.get(row.id)
    if (!change) return row
    news.delete(row.id)
    changed = true
    return { ...row, ...changedFields(change) }
  })
  const fresh = [...news.values()].filter((change) => change.began && surelyFits(change, filters)).map(asMessage)
  if (!changed && fresh.length === 0) return listed
  const { oldest, next } = listed
  // Oldest first, new messages belong behind the last page.
  const placed = oldest && next ? [] : fresh
  // Almost always the newest; a message of another process may be a little older.
  const all = placed.length ? [...rows, ...placed].sort((a, b) => inOrder(a, b, oldest)) : rows
  if (all.length <= MOST) return { rows: all, next, oldest }
  return { rows: all.slice(0, MOST), next: all[MOST - 1]!.id, oldest }
}

/** Compares two messages by the order of the list: below 0 when `a` comes first. */
const inOrder = (a: Message, b: Message, oldest?: boolean) => (a.id === b.id ? 0 : a.id < b.id === !!oldest ? -1 : 1)

/** Applies a change to a known message. */
function changedFields({ state, step, tries, due, says, key, result, at }: LiveEvent): Partial<Message> {
  return {
    state: state as MessageState,
    step,
    tries,
    due,
    says,
    changed: at,
    ...(key ? { key } : {}),
    ...(result ? { result } : {}),
  }
}
