import { expect, test } from 'vitest'
import { matching, numbersIn, pageChoices, partsOf } from './choices'

const named = (name: string, title: string) => ({ name, title })

test('every typed word must occur, in the text or the kind', () => {
  expect(matching('attention mess', pageChoices).map((one) => one.text)).toEqual(['Messages that need attention'])
  expect(matching('  ', pageChoices)).toHaveLength(pageChoices.length)
  expect(matching('nothing like it', pageChoices)).toEqual([])
})

test('parts lead to what belongs to them, by title or else by name', () => {
  const workspace = {
    title: '',
    environment: null,
    release: 1,
    deploy_from_console: false,
    flows: [named('partner-orders', 'Partner purchase orders')],
    partners: [],
    connections: [named('erp', '')],
    plans: [],
  }
  expect(partsOf(workspace)).toEqual([
    { text: 'Partner purchase orders', kind: 'flow', to: '/messages?flow=partner-orders' },
    { text: 'erp', kind: 'connection', to: '/connections#erp' },
  ])
})

test('what looks like a number leads to its order, escaped', () => {
  expect(numbersIn(' MF/20501 ').map((one) => one.to)).toEqual([
    '/orders/MF%2F20501',
    '/messages?key_prefix=MF%2F20501',
  ])
  expect(numbersIn('two words 7')).toEqual([])
  expect(numbersIn('erp')).toEqual([])
})
