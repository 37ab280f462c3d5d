import { expect, test } from 'vitest'
import { asked, onSignedOut, Trouble, troubleOf } from './client'

const answered = (status: number, more: object) =>
  Promise.resolve({ response: new Response(null, { status }), ...more })
const trouble = (asking: Promise<unknown>) => asking.then(() => undefined, troubleOf)

test('an answer is its data', async () => {
  expect(await asked(answered(200, { data: 7 }))).toBe(7)
})

test('a problem has the service’s own words, with its findings', async () => {
  const error = { title: 'it has 1 fault', status: 422, detail: 'look', findings: [{ line: 3 }] }
  expect(await trouble(asked(answered(422, { error })))).toMatchObject({
    message: 'it has 1 fault',
    status: 422,
    detail: 'look',
    findings: [{ line: 3 }],
  })
  expect(await trouble(asked(answered(502, { error: 'a page of something between' })))).toMatchObject({
    message: 'The service answered 502.',
    status: 502,
  })
})

test('a service that cannot be reached, and a missing sign-in, are reported', async () => {
  let calls = 0
  onSignedOut(() => calls++)
  expect(await trouble(asked(Promise.reject(new TypeError('Failed to fetch'))))).toMatchObject({
    status: 0,
    message: 'The service cannot be reached.',
  })
  expect(calls).toBe(0)
  await trouble(asked(answered(401, { error: { title: 'a valid token is needed' } })))
  expect(calls).toBe(1)
  expect(troubleOf('odd')).toBeInstanceOf(Trouble)
})
