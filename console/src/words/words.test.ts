import { expect, test } from 'vitest'
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
