/** A live list of messages: loaded pages, updated by pulses. */
import { EventKind, MessageState } from '../api/schema'
import type { LiveEvent, Message, Messages, Pulse } from '../api/schema'
import { asMessage, type Filters, surelyFits } from './filters'

export interface Listed {
  rows: Message[]
  /** Cursor of the next page; absent on the last page. */
  next?: string | null
}

export type Happening =
  | { kind: 'first'; page: Messages }
  | { kind: 'older'; page: Messages }
  | { kind: 'pulse'; pulse: Pulse; filters: Filters }

/** Most rows in memory; older ones are loaded again when needed. */
const MOST = 3000

export function reduceMessages(listed: Listed, happening: Happening): Listed {
  switch (happening.kind) {
    case 'first': {
      const { messages, next } = happening.page
      const last = messages.at(-1)
      // Later pages stay, unless the first page is now the last.
      const older = next && last ? listed.rows.filter((row) => row.id < last.id) : []
      return { rows: [...messages, ...older], next: older.length ? listed.next : next }
    }
    case 'older': {
      const known = new Set(listed.rows.map((row) => row.id))
      const fresh = happening.page.messages.filter((row) => !known.has(row.id))
      return { rows: [...listed.rows, ...fresh], next: happening.page.next }
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
  fresh.sort((a, b) => ((a.id ?? '') < (b.id ?? '') ? 1 : -1))
  // Almost always the newest; a message of another process may be a little older.
  const all = fresh.length && rows[0] && fresh.at(-1)!.id < rows[0].id ? merged(fresh, rows) : [...fresh, ...rows]
  if (all.length <= MOST) return { rows: all, next: listed.next }
  return { rows: all.slice(0, MOST), next: all[MOST - 1]!.id }
}

const merged = (fresh: Message[], rows: Message[]) => [...fresh, ...rows].sort((a, b) => (a.id < b.id ? 1 : -1))

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
