import { expect, test } from 'vitest'
import { PulseLine, type LineEvent, type Source } from './pulseLine'

/** A simulated browser, controlled by the test. */
function scene() {
  const opened: { url: string; hear: (type: string, event?: object) => void; closed: boolean }[] = []
  const timers: { act: () => void; ms: number; cancelled: boolean }[] = []
  const events: LineEvent[] = []
  let signedIn: boolean | undefined = undefined
  const line = new PulseLine(
    {
      open: (url) => {
        const heard = new Map<string, (event: object) => void>()
        const one = { url, hear: (type: string, event = {}) => heard.get(type)?.(event), closed: false }
        opened.push(one)
        return {
          addEventListener: (type: string, then: (event: object) => void) => heard.set(type, then),
          close: () => (one.closed = true),
        } as Source
      },
      signedIn: async () => signedIn,
      later: (act, ms) => {
        const timer = { act, ms, cancelled: false }
        timers.push(timer)
        return () => (timer.cancelled = true)
      },
      now: () => 7,
    },
    (one) => events.push(one),
  )
  line.start()
  return {
    line,
    opened,
    events,
    last: () => opened.at(-1)!,
    signIn: (value: boolean | undefined) => (signedIn = value),
    /** Fires the newest timer that is still active. */
    due: async () => {
      const timer = timers.findLast((one) => !one.cancelled)!
      timer.cancelled = true
      timer.act()
      await Promise.resolve()
      await Promise.resolve()
      return timer.ms
    },
    links: () => events.filter((one) => one.kind === 'link').map((one) => one.link),
  }
}

const pulse = (id: string) => ({ data: '{"at":"","changes":[],"left_out":0,"passed":[]}', lastEventId: id })

test('a line that breaks opens again behind the last word it heard', async () => {
  const { last, due, links, opened } = scene()
  last().hear('ready')
  last().hear('message', pulse('5.1.7.0'))
  last().hear('error')
  expect(last().closed).toBe(true)
  await due()
  expect(last().url).toBe('/api/pulse?after=5.1.7.0')
  last().hear('open')
  last().hear('message', pulse('5.1.8.0'))
  expect(links()).toEqual(['live', 'lost', 'catching-up', 'live'])
  expect(opened).toHaveLength(2)
})

test('it waits longer each time, up to five seconds, and from the beginning once it was alive', async () => {
  const { last, due } = scene()
  const waits = []
  for (let n = 0; n < 6; n++) {
    last().hear('error')
    waits.push(await due())
  }
  expect(waits).toEqual([500, 1000, 2000, 4000, 5000, 5000])
  last().hear('ready')
  last().hear('error')
  expect(await due()).toBe(500)
})

test('silence is a broken line', async () => {
  const { last, due, links } = scene()
  last().hear('ready')
  expect(await due()).toBe(11_000)
  expect(links()).toEqual(['live', 'lost'])
  expect(last().closed).toBe(true)
})

test('a missing sign-in is reported, and tried again on request', async () => {
  const { last, due, links, signIn, line, opened } = scene()
  signIn(false)
  last().hear('error')
  await due()
  expect(links()).toEqual(['lost', 'signed-out'])
  expect(opened).toHaveLength(1)
  line.retry()
  expect(opened).toHaveLength(2)
})

test('too many missed events are a reset; events of an old source are ignored', async () => {
  const { last, events, opened, due } = scene()
  last().hear('error')
  await due()
  last().hear('reset')
  opened[0]!.hear('message', pulse('1.1.1.0'))
  expect(events.filter((one) => one.kind !== 'link')).toEqual([{ kind: 'reset' }])
})
