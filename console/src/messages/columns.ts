/** Columns of the list of messages: which are shown, and how wide each is. */
import type { Message } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'
import { whyOf } from './whyOf'

export interface Column {
  key: ColumnKey
  title: string
  /** Width in a CSS grid. */
  width: string
  /** Text by which rows are sorted, and which tells whether the column is empty. */
  text: (row: Message) => string
}

export const columnKeys = ['result', 'why', 'flow', 'step', 'partner', 'release', 'received', 'changed'] as const
export type ColumnKey = (typeof columnKeys)[number]

/** By which column a list is sorted. */
export interface Sort {
  key: ColumnKey
  descending: boolean
}

/** The number and the state are always shown, before these. */
export const columns: Column[] = [
  { key: 'result', title: 'In the target', width: 'minmax(5rem, 8rem)', text: (row) => row.result ?? '' },
  { key: 'why', title: 'Why', width: 'minmax(12.5rem, 3fr)', text: whyOf },
  { key: 'flow', title: 'Flow', width: 'minmax(4.5rem, 16rem)', text: (row) => titleOf('flows', row.flow) },
  { key: 'step', title: 'Step', width: 'minmax(5rem, 8rem)', text: (row) => row.step },
  { key: 'partner', title: 'Partner', width: 'minmax(4.5rem, 11rem)', text: (row) => titleOf('partners', row.partner) },
  { key: 'release', title: 'Release', width: '5rem', text: (row) => (row.release ? `${row.release}` : '') },
  { key: 'received', title: 'Received', width: '7.5rem', text: (row) => row.received },
  { key: 'changed', title: 'Last change', width: '7.5rem', text: (row) => row.changed },
]

/** Shown until a person chooses others. */
const usual: ColumnKey[] = ['result', 'why', 'flow', 'partner', 'received']
/** Of these, the ones without any text are left out: they say nothing. */
const leftOut: ColumnKey[] = ['result', 'why', 'partner']

/**
 * Returns the columns to show. Without a choice: the usual ones that have text in any row. With a choice: exactly those. In a list of
 * failures, the reason comes first.
 */
export function shownColumns(rows: Message[], chosen: ColumnKey[] | undefined, failures: boolean): Column[] {
  const wanted = chosen ?? usual.filter((key) => !failures || key !== 'result')
  const filled = (one: Column) => rows.some((row) => one.text(row) !== '')
  const shown = columns.filter(
    (one) => wanted.includes(one.key) && (chosen || !leftOut.includes(one.key) || filled(one)),
  )
  return failures ? [...shown.filter((one) => one.key === 'why'), ...shown.filter((one) => one.key !== 'why')] : shown
}

/** Sorts rows by the text of a column; releases as numbers. Rows without text come last. */
export function sortedBy(rows: Message[], key: ColumnKey, descending: boolean): Message[] {
  const column = columns.find((one) => one.key === key)
  if (!column) return rows
  const collator = new Intl.Collator(undefined, { numeric: true })
  const texts = new Map(rows.map((row) => [row.id, column.text(row)]))
  const text = (row: Message) => texts.get(row.id) ?? ''
  return [...rows].sort((a, b) => {
    if (!text(a) || !text(b)) return Number(!text(a)) - Number(!text(b))
    return collator.compare(text(a), text(b)) * (descending ? -1 : 1)
  })
}
