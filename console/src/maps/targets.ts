/** The result of a map, prepared for reading and searching. */
import { FindingSeverity } from '../api/schema'
import type { FindingView, MapProposal, MapRule, MapSource } from '../api/schema'

/** True if the name or value of a field contains the text. */
export function has(text: string, ...in_: (string | null | undefined)[]): boolean {
  const wanted = text.trim().toLowerCase()
  return in_.some((one) => (one ?? '').toLowerCase().includes(wanted))
}

/** Order of findings: required targets without a rule, other errors, warnings. */
export function inOrder(findings: FindingView[]): FindingView[] {
  const weight = (one: FindingView) =>
    one.severity !== FindingSeverity.error ? 2 : one.code === 'map::unfilled' ? 0 : 1
  return [...findings].sort((a, b) => weight(a) - weight(b))
}

/** One sentence on the state of a map. */
export function standing(findings: FindingView[], rules: MapRule[], source: MapSource[]): string {
  const errors = findings.filter((one) => one.severity === FindingSeverity.error)
  const unfilled = errors.filter((one) => one.code === 'map::unfilled').length
  if (errors.length) {
    const wrong = errors.length - unfilled
    const parts = [
      unfilled && `${unfilled} required ${unfilled === 1 ? 'field is' : 'fields are'} not filled`,
      wrong && `${wrong} ${wrong === 1 ? 'rule has an error' : 'rules have errors'}`,
    ]
    return `${parts.filter(Boolean).join(', ')}.`
  }
  if (!rules.length) return 'The rules have no errors. Choose a document to run them.'
  const filled = rules.filter((one) => one.value != null).length
  const left = source.filter((one) => !one.used).length
  const unused = left
    ? `${left} of the source's ${source.length} fields are not used`
    : 'every field of the source is used'
  return `${filled} ${filled === 1 ? 'field' : 'fields'} filled; ${unused}.`
}

/** The proposal for another field of the same list, which names the source list. */
export function listOf(path: string, proposals: Iterable<MapProposal>): MapProposal | undefined {
  const list = path.slice(0, path.lastIndexOf('[].') + 1)
  return list ? [...proposals].find((one) => one.path.startsWith(list)) : undefined
}

/** Returns the first changed line, from 1; 0 if nothing changed. */
export function firstChange(before: string, after: string): number {
  const lines = before.split('\n')
  return after.split('\n').findIndex((now, n) => now !== lines[n]) + 1
}
