import { expect, test } from 'vitest'
import { fromAddress } from './useAddressFilters'

test('of an address only the named filters that say something are taken', () => {
  const query = { flow: 'orders', state: 'failed', odd: 'x', partner: '', key: ['a'] }
  expect(fromAddress(['flow', 'state', 'partner', 'key'], query)).toEqual({ flow: 'orders', state: 'failed' })
})
