/** Client of the service's API, typed from its OpenAPI document, with errors as sentences. */
import createClient from 'openapi-fetch'
import type { paths, FindingView, Problem, ProblemCode } from './schema'

export const api = createClient<paths>({ credentials: 'same-origin' })

/** An error of the service, or of the connection to it. */
export class Trouble extends Error {
  /** HTTP status; 0 if the service could not be reached. */
  readonly status: number
  readonly detail: string
  readonly findings: FindingView[]
  /** Stable code of the problem; absent if the service could not be reached. */
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

/** Returns the data of an answer, or throws a `Trouble` with the service's words. */
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

/** Called on every 401 answer. */
export function onSignedOut(then: () => void) {
  whenSignedOut = then
}

/** Converts an error to a `Trouble`. */
export function troubleOf(error: unknown): Trouble {
  return error instanceof Trouble ? error : new Trouble(String(error), 0)
}
