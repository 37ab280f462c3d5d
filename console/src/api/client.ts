/** The API of the service, typed from its own description, and its errors as sentences. */
import createClient from 'openapi-fetch'
import type { paths, FindingView, Problem, ProblemCode } from './schema'

export const api = createClient<paths>({ credentials: 'same-origin' })

/** What the service, or the way to it, said when something did not work. */
export class Trouble extends Error {
  /** 0 when the service could not be reached. */
  readonly status: number
  readonly detail: string
  readonly findings: FindingView[]
  /** Stable code of the problem; nothing when the service could not be reached. */
  readonly code?: ProblemCode

  constructor(title: string, status: number, detail = '', findings: FindingView[] = [], code?: ProblemCode) {
    super(title)
    this.code = code
    this.status = status
    this.detail = detail
    this.findings = findings
  }
}

type Answered<T> = { data?: T; error?: unknown; response: Response }

/** The answer's data, or a `Trouble` with the service's own words. */
export async function asked<T>(answer: Promise<Answered<T>>): Promise<T> {
  const { data, error, response } = await answer.catch(() => {
    throw new Trouble('The service cannot be reached.', 0, 'Is it running? This page continues when it answers.')
  })
  if (response.ok) return data as T
  if (response.status === 401) whenSignedOut()
  const problem = (error ?? {}) as Partial<Problem>
  const title = problem.title ?? `The service answered ${response.status}.`
  throw new Trouble(title, response.status, problem.detail ?? '', problem.findings ?? [], problem.code)
}

let whenSignedOut = () => {}

/** Called whenever an answer says that nobody is signed in. */
export function onSignedOut(then: () => void) {
  whenSignedOut = then
}

/** What went wrong, as a `Trouble`. */
export function troubleOf(error: unknown): Trouble {
  return error instanceof Trouble ? error : new Trouble(String(error), 0)
}
