import { expect, test } from 'vitest'
import type { ConnectionView, FlowLine, FlowStep, QueueView } from '../api/schema'
import { trafficOf, withDepth } from './traffic'

const step = (more: Partial<FlowStep>) =>
  ({
    passed_minute: 0,
    passed_slots: [0, 0],
    failed: 0,
    retrying: 0,
    waiting: 0,
    connection: null,
    ...more,
  }) as FlowStep
const line = (from: string, ...steps: FlowStep[]) =>
  ({ intakes: [{ connection: from, queue: null, takes: 'x' }], steps }) as unknown as FlowLine
const connection = (name: string, queues: Partial<QueueView>[] = []) =>
  ({ name, queues: queues as QueueView[] }) as ConnectionView

const lines = [
  line('drop', step({ passed_minute: 3, passed_slots: [1, 2] }), step({ connection: 'erp', failed: 2, slow_us: 900 })),
  line(
    'shop',
    step({ passed_minute: 9 }),
    step({ connection: 'erp', passed_minute: 5, passed_slots: [0, 5], retrying: 1, slow_us: 300 }),
  ),
]

test('traffic is that of the steps that use a connection, and of the intakes', () => {
  expect(trafficOf(connection('erp'), { lines })).toEqual({
    minute: 5,
    slots: [0, 5],
    failed: 2,
    retrying: 1,
    waiting: 0,
    slow_us: 900,
    depth: undefined,
  })
  expect(trafficOf(connection('drop'), { lines })).toMatchObject({ minute: 3, slots: [1, 2], failed: 0 })
  expect(trafficOf(connection('none'), { lines })).toMatchObject({ minute: 0, slots: [] })
})

test('the depth is that of all queues that are known, and is followed for a while', () => {
  const queues = [{ messages: 4 }, { messages: null }, { messages: 3 }]
  expect(trafficOf(connection('bus', queues), { lines }).depth).toBe(7)
  expect(trafficOf(connection('bus', [{ messages: null }]), { lines }).depth).toBeUndefined()
  expect(withDepth([1], undefined)).toEqual([1])
  const long = Array.from({ length: 40 }, (_, n) => n).reduce((seen, n) => withDepth(seen, n), [] as number[])
  expect([long.length, long.at(-1)]).toEqual([30, 39])
})
