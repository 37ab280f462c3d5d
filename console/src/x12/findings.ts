/** Findings of a document, counted and assigned to its lines. */
import { EdiWeight } from '../api/schema'
import type { EdiFinding, EdiLine, EdiLook } from '../api/schema'

export interface Span {
  text: string
  /** The highest level of the findings there. */
  weight?: EdiWeight
  chosen: boolean
}

/** Splits a line where findings and the chosen element begin and end; together the pieces are the whole line. */
export function spans(line: EdiLine, chosen?: { from: number; to: number }): Span[] {
  const characters = [...line.text]
  const marks = line.findings.filter((one) => one.to > one.from)
  const cuts = new Set([0, characters.length])
  for (const { from, to } of chosen ? [...marks, chosen] : marks) {
    cuts.add(Math.min(from, characters.length)).add(Math.min(to, characters.length))
  }
  const at = [...cuts].sort((a, b) => a - b)
  return at.slice(1).map((to, n) => {
    const from = at[n] ?? 0
    const covers = (one: { from: number; to: number }) => one.from <= from && one.to >= to
    const found = marks.filter(covers).map((one) => one.weight)
    return {
      text: characters.slice(from, to).join(''),
      weight: weights.find((weight) => found.includes(weight)),
      chosen: !!chosen && covers(chosen),
    }
  })
}

/** Levels, the most severe first. */
export const weights = Object.values(EdiWeight)

/** The meaning of a level in words. */
export const weightWords: Record<EdiWeight, string> = {
  [EdiWeight.error]: 'Error',
  [EdiWeight.tolerated]: 'Tolerated',
  [EdiWeight.note]: 'Note',
}

/** The finding with its level and code, as in the 997. */
export function titleOf({ level, code }: EdiFinding): string {
  return code ? `${level} ${code}` : 'not reported to the partner'
}

/** The verdict on the whole document as one sentence. */
export function verdictOf(look: EdiLook): string {
  if (!look.lines.length) return look.says[0] ?? 'This is not an X12 document.'
  const rejected = look.sets.filter((set) => set.ack === 'R').length
  const sets = look.sets.length === 1 ? '1 set' : `${look.sets.length} sets`
  if (look.valid) return `Nothing in it would be rejected: ${sets}.`
  if (rejected) return `${rejected} of ${sets} would be rejected.`
  return 'Its envelope is broken.'
}
