import { expect, test } from 'vitest'
import { advice } from './advice'
import { glossary } from './glossary'
import { lookOf, messageStates, orderStates, verdicts } from './states'

test('every state has a mark of its own among its kind, so that it reads without colour', () => {
  for (const kind of [messageStates, verdicts, orderStates]) {
    const marks = kind.map((state) => lookOf(state).mark)
    expect(new Set(marks).size, kind.join(' ')).toBe(kind.length)
    expect(marks).not.toContain(lookOf('no such state').mark)
  }
})

test('every state of a message and every verdict is explained', () => {
  expect([...messageStates, ...verdicts].filter((word) => !(word in glossary))).toEqual([])
})

test('each code of a reason has advice that fits it', () => {
  const told = [
    'refused-401',
    'refused-404',
    'refused-409',
    'refused-422',
    'in-doubt',
    'gave-up',
    'map-failed',
    'diverged',
    'not-stored',
    'suspect',
    'body-failed',
  ].map(advice)
  expect(new Set(told).size).toBe(told.length)
  expect(told[0]).toContain('credentials')
  expect(told[4]).toContain('target system')
})
