import { expect, test } from 'vitest'
import { flattened } from './flattened'

test('properties stand in words, headers under their own names', () => {
  const properties = { routing_key: 'picks.swift', priority: 3, headers: { 'x-tries': 2, 'x-death': [{ count: 1 }] } }
  expect(flattened(properties)).toEqual([
    ['routing key', 'picks.swift'],
    ['priority', '3'],
    ['x-tries', '2'],
    ['x-death', '[{"count":1}]'],
  ])
  expect(flattened({})).toEqual([])
})
