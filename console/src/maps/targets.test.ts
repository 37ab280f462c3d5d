import { expect, test } from 'vitest'
import { FindingSeverity, ProposalConfidence } from '../api/schema'
import type { FindingView, MapProposal } from '../api/schema'
import { firstChange, has, inOrder, listOf, standing } from './targets'

const finding = (severity: FindingSeverity, code: string): FindingView => ({
  severity,
  code,
  file: 'maps/m.toml',
  line: 1,
  column: 1,
  length: 1,
  source: '',
  help: null,
  accepted: null,
  says: code,
})

test('what is required and not filled comes before other errors, and those before notes', () => {
  const all = [
    finding(FindingSeverity.warning, 'map::cut'),
    finding(FindingSeverity.error, 'expr::syntax'),
    finding(FindingSeverity.error, 'map::unfilled'),
  ]
  expect(inOrder(all).map((one) => one.code)).toEqual(['map::unfilled', 'expr::syntax', 'map::cut'])
})

test('the state of a map is one sentence', () => {
  const rule = (value: string | null) => ({ target: 'a', value, line: 1 })
  const field = (used: boolean) => ({ path: 'b', value: 'c', times: 1, title: '', used })
  expect(standing([finding(FindingSeverity.error, 'map::unfilled')], [], [])).toBe('1 required field is not filled.')
  expect(
    standing(
      [
        finding(FindingSeverity.error, 'map::unfilled'),
        finding(FindingSeverity.error, 'x'),
        finding(FindingSeverity.error, 'y'),
      ],
      [],
      [],
    ),
  ).toBe('1 required field is not filled, 2 rules have errors.')
  expect(standing([finding(FindingSeverity.warning, 'map::cut')], [], [])).toContain('Choose a document')
  expect(standing([], [rule('1'), rule(null)], [field(true), field(false)])).toBe(
    "1 field filled; 1 of the source's 2 fields are not used.",
  )
  expect(standing([], [rule('1')], [field(true)])).toBe('1 field filled; every field of the source is used.')
})

test('a field is found by its name or by a value, in any case', () => {
  expect(has('MF-', 'reference', 'mf-20417')).toBe(true)
  expect(has('zip', 'reference', null)).toBe(false)
})

test('a neighbour in the same list tells what makes its items', () => {
  const proposal = (path: string): MapProposal => ({
    path,
    expression: 'a',
    confidence: ProposalConfidence.sure,
    because: '',
    within: [{ into: 'rows', of: 'lines' }],
  })
  const all = [proposal('order'), proposal('rows[].item')]
  expect(listOf('rows[].pieces', all)?.path).toBe('rows[].item')
  expect(listOf('boxes[].no', all)).toBeUndefined()
  expect(listOf('placed', all)).toBeUndefined()
})

test('the line that changed is shown, counted from 1', () => {
  expect(firstChange('a\nb\nc', 'a\nx\nb\nc')).toBe(2)
  expect(firstChange('a\n', 'a\nb\n')).toBe(2)
  expect(firstChange('a', 'a')).toBe(0)
})
