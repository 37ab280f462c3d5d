/** What a map gives, laid out for reading and searching. */
import { FindingSeverity } from '../api/schema'
import type { FindingView, MapProposal, MapRule, MapSource } from '../api/schema'

/** Whether a field has the text in its name or value. */
export function has(text: string, ...in_: (string | null | undefined)[]): boolean {
  const wanted = text.trim().toLowerCase()
  return in_.some((one) => (one ?? '').toLowerCase().includes(wanted))
}

/** Required targets that nothing fills come first, then other errors, then what is only noted. */
export function inOrder(findings: FindingView[]): FindingView[] {
  const weight = (one: FindingView) =>
    one.severity !== FindingSeverity.error ? 2 : one.code === 'map::unfilled' ? 0 : 1
  return [...findings].sort((a, b) => weight(a) - weight(b))
}

/** One sentence on how a map stands. */
export function standing(findings: FindingView[], rules: MapRule[], source: MapSource[]): string {
  const errors = findings.filter((one) => one.severity === FindingSeverity.error)
  const unfilled = errors.filter((one) => one.code === 'map::unfilled').length
  if (errors.length) {
    const wrong = errors.length - unfilled
    const told = [
      unfilled && `${unfilled} required ${unfilled === 1 ? 'field is' : 'fields are'} not filled`,
      wrong && `${wrong} ${wrong === 1 ? 'rule is' : 'rules are'} wrong`,
    ]
    return `${told.filter(Boolean).join(', ')}.`
  }
  if (!rules.length) return 'The rules are sound. Give it a document to see what they make of it.'
  const filled = rules.filter((one) => one.value != null).length
  const left = source.filter((one) => !one.used).length
  const unused = left
    ? `${left} of the source's ${source.length} fields are not used`
    : 'every field of the source is used'
  return `${filled} ${filled === 1 ? 'field' : 'fields'} filled; ${unused}.`
}

/** What is proposed for a neighbour in the same list: it tells what makes the items of that list. */
export function listOf(path: string, proposals: Iterable<MapProposal>): MapProposal | undefined {
  const list = path.slice(0, path.lastIndexOf('[].') + 1)
  return list ? [...proposals].find((one) => one.path.startsWith(list)) : undefined
}

/** The first line, from 1, in which a text is another than it was; 0 where it is the same. */
export function firstChange(before: string, after: string): number {
  const lines = before.split('\n')
  return after.split('\n').findIndex((now, n) => now !== lines[n]) + 1
}
