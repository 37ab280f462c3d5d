import { expect, test } from 'vitest'
import { EdiAck, EdiLevel, EdiWeight } from '../api/schema'
import type { EdiFinding, EdiLook } from '../api/schema'
import { spans, titleOf, verdictOf } from './findings'

const finding = (from: number, to: number, weight = EdiWeight.error): EdiFinding => ({
  weight,
  level: EdiLevel.element,
  code: weight === EdiWeight.note ? null : '6',
  says: 'PO102: expected a number, found `x`',
  from,
  to,
})
const line = (findings: EdiFinding[]) => ({ number: 1, text: 'PO1*1*x*EA~', findings })

test('a line is cut at what is found and at what is chosen, and nothing of it is lost', () => {
  const cut = spans(line([finding(6, 7)]), { from: 8, to: 10 })
  expect(cut.map((one) => one.text)).toEqual(['PO1*1*', 'x', '*', 'EA', '~'])
  expect(cut.map((one) => one.weight)).toEqual([undefined, EdiWeight.error, undefined, undefined, undefined])
  expect(cut.map((one) => one.chosen)).toEqual([false, false, false, true, false])
})

test('where two things are found, the one that weighs more shows', () => {
  const cut = spans(line([finding(0, 10, EdiWeight.note), finding(6, 7)]))
  expect(cut.map((one) => `${one.text} ${one.weight ?? ''}`)).toEqual(['PO1*1* note', 'x error', '*EA note', '~ '])
})

test('places beyond the line, and findings without one, cut nothing', () => {
  expect(spans(line([finding(0, 0), finding(40, 50)])).map((one) => one.text)).toEqual(['PO1*1*x*EA~'])
})

test('the verdict counts what would be rejected', () => {
  const set = { ack: EdiAck.A } as EdiLook['sets'][number]
  const base = { valid: true, says: [], partner: '', lines: [line([])], cut: false, acknowledgments: [] }
  const look: EdiLook = { ...base, sets: [set, set] }
  expect(verdictOf(look)).toBe('Nothing in it would be rejected: 2 sets.')
  expect(verdictOf({ ...look, valid: false, sets: [set, { ...set, ack: EdiAck.R }] })).toBe(
    '1 of 2 sets would be rejected.',
  )
  expect(verdictOf({ ...look, valid: false })).toBe('Its envelope is broken.')
  expect(verdictOf({ ...look, valid: false, lines: [], sets: [], says: ['no interchange'] })).toBe('no interchange')
})

test('a code is named with its level, and a note is not reported to the partner', () => {
  expect(titleOf(finding(0, 1))).toBe('element 6')
  expect(titleOf(finding(0, 1, EdiWeight.note))).toBe('not reported to the partner')
})
