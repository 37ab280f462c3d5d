import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { effectScope } from 'vue'
import { Trouble } from './client'
import { forgetAnswers, useAsked, useSettled, useThrottled } from './useAsked'

beforeEach(() => void vi.useFakeTimers())
afterEach(() => void vi.useRealTimers())

/** Answers that the test gives when it wants. */
function scene() {
  const open: { answer: (text: string) => void; fail: (error: unknown) => void }[] = []
  const ask = () => new Promise<string>((answer, fail) => open.push({ answer, fail }))
  const scope = effectScope()
  return { open, scope, ...scope.run(() => useAsked(ask))! }
}

test('an answer that was overtaken does not replace the newer one', async () => {
  const { open, again, known, asking } = scene()
  const [first, second] = [again(), again()]
  open[1]!.answer('new')
  await second
  open[0]!.answer('old')
  await first
  expect([known.value, asking.value]).toEqual(['new', false])
})

test('what is known stays when asking anew fails, and the trouble goes with the next answer', async () => {
  const { open, again, known, trouble } = scene()
  const asked = [again()]
  open[0]!.answer('first')
  await asked[0]
  asked.push(again())
  open[1]!.fail(new Trouble('no', 503))
  await asked[1]
  expect([known.value, trouble.value?.status]).toEqual(['first', 503])
  asked.push(again())
  open[2]!.answer('anew')
  await asked[2]
  expect([known.value, trouble.value]).toEqual(['anew', undefined])
})

test('nothing comes to what is gone or forgotten', async () => {
  const { open, again, known, scope, forget } = scene()
  const asked = again()
  forget()
  open[0]!.answer('forgotten')
  await asked
  const more = again()
  scope.stop()
  open[1]!.answer('late')
  await more
  expect(known.value).toBeUndefined()
})

test('a page that is opened again shows the last answer until its own arrives, and asks again where nothing answers', async () => {
  const answers = ['first', 'second', 'third']
  const signals: AbortSignal[] = []
  const page = (key: string) =>
    effectScope().run(() =>
      useAsked(
        async (signal) => {
          signals.push(signal)
          const answer = answers.shift()
          if (answer === 'second') throw new Trouble('not reached', 0)
          return answer
        },
        () => [key],
      ),
    )!
  const [one, same, other] = [page('a'), page('a'), page('b')]
  await one.again()
  expect(one.known.value).toBe('first')
  const asked = same.again()
  // Not at once: a page that is being set up watches for it.
  expect(same.known.value).toBeUndefined()
  await Promise.resolve()
  expect([same.known.value, other.known.value]).toEqual(['first', undefined])
  await vi.advanceTimersByTimeAsync(1000)
  await asked
  expect([same.known.value, one.known.value, same.trouble.value]).toEqual(['third', 'third', undefined])
  forgetAnswers()
  void same.again()
  void same.again()
  expect(signals.at(-2)?.aborted).toBe(true)
})

test('another key shows its own last answer or none, and nothing is asked for a page that has gone', async () => {
  let id = 'x'
  let asks = 0
  const scope = effectScope()
  const page = scope.run(() =>
    useAsked(
      async () => `${id} ${++asks}`,
      () => ['page', id],
    ),
  )!
  await page.again()
  id = 'y'
  const second = page.again()
  await Promise.resolve()
  expect(page.known.value).toBeUndefined()
  await second
  expect(page.known.value).toBe('y 2')
  id = 'x'
  const third = page.again()
  await Promise.resolve()
  expect(page.known.value).toBe('x 1')
  await third
  scope.stop()
  await page.again()
  expect([page.known.value, asks]).toEqual(['x 3', 3])
})

test('throttled: at once, then at most once in its time, and the last is never lost', () => {
  let acts = 0
  const scope = effectScope()
  const act = scope.run(() => useThrottled(() => acts++, 100))!
  act()
  act()
  act()
  expect(acts).toBe(1)
  vi.advanceTimersByTime(100)
  expect(acts).toBe(2)
  vi.advanceTimersByTime(1000)
  expect(acts).toBe(2)
  act()
  act()
  scope.stop()
  vi.advanceTimersByTime(1000)
  expect(acts).toBe(3)
})

test('waits for a pause, then asks once', () => {
  let acts = 0
  const act = effectScope().run(() => useSettled(() => acts++, 100))!
  act()
  vi.advanceTimersByTime(60)
  act()
  vi.advanceTimersByTime(60)
  expect(acts).toBe(0)
  vi.advanceTimersByTime(40)
  expect(acts).toBe(1)
})
