/**
 * The connection to the service's live stream: opened, watched, and opened again after a break.
 *
 * Plain TypeScript, so that the worker, a page without workers and the tests use the same code.
 */
import type { Pulse } from '../api/schema'

/** State of the connection. `catching-up` is the time between reopening and the first event. */
export type LinkState = 'connecting' | 'live' | 'catching-up' | 'lost' | 'signed-out'

export type LineEvent =
  | { kind: 'link'; link: LinkState; since: number }
  | { kind: 'pulse'; pulse: Pulse }
  /** Too many events were missed: reload everything. */
  | { kind: 'reset' }

/** The part of `EventSource` that is used. */
export interface Source {
  addEventListener(
    type: 'open' | 'error' | 'message' | 'ready' | 'reset',
    heard: (event: { data?: string; lastEventId?: string }) => void,
  ): void
  close(): void
}

export interface Surroundings {
  open(url: string): Source
  /** True if the user is signed in; `undefined` if the service cannot be asked. */
  signedIn(): Promise<boolean | undefined>
  later(act: () => void, ms: number): () => void
  now(): number
}

const FIRST_WAIT = 500
const LONGEST_WAIT = 5000
/** A pulse arrives at least every four seconds; without one for this long, the connection is dead. */
const SILENCE = 11_000

export class PulseLine {
  private link: LinkState = 'connecting'
  private since: number
  private after = ''
  private wait = FIRST_WAIT
  private source?: Source
  private cancelSilence = () => {}
  private cancelRetry = () => {}

  constructor(
    private readonly around: Surroundings,
    private readonly tell: (event: LineEvent) => void,
  ) {
    this.since = around.now()
  }

  start() {
    this.connect()
  }

  /** Current state, for late listeners. */
  standing(): LineEvent {
    return { kind: 'link', link: this.link, since: this.since }
  }

  /** Connects at once, e.g. after sign-in. */
  retry() {
    if (this.link === 'lost' || this.link === 'signed-out') {
      this.cancelRetry()
      this.wait = FIRST_WAIT
      this.connect()
    }
  }

  private connect() {
    const source = this.around.open(`/api/pulse${this.after ? `?after=${encodeURIComponent(this.after)}` : ''}`)
    this.source = source
    const mine =
      <T>(heard: (event: T) => void) =>
      (event: T) => {
        if (this.source === source) heard(event)
      }
    source.addEventListener(
      'open',
      mine(() => {
        // With a position, it gets the missed events first.
        if (this.link !== 'connecting') this.stand('catching-up')
        this.listen()
      }),
    )
    source.addEventListener(
      'ready',
      mine(() => this.alive()),
    )
    source.addEventListener(
      'reset',
      mine(() => {
        this.alive()
        this.tell({ kind: 'reset' })
      }),
    )
    source.addEventListener(
      'message',
      mine((event: { data?: string; lastEventId?: string }) => {
        if (event.lastEventId) this.after = event.lastEventId
        this.alive()
        this.tell({ kind: 'pulse', pulse: JSON.parse(event.data ?? '{}') as Pulse })
      }),
    )
    source.addEventListener(
      'error',
      mine(() => this.broken()),
    )
    this.listen()
  }

  private alive() {
    this.wait = FIRST_WAIT
    this.stand('live')
    this.listen()
  }

  private listen() {
    this.cancelSilence()
    this.cancelSilence = this.around.later(() => this.broken(), SILENCE)
  }

  private broken() {
    this.source?.close()
    this.source = undefined
    this.cancelSilence()
    this.stand('lost')
    const wait = this.wait
    this.wait = Math.min(this.wait * 2, LONGEST_WAIT)
    this.cancelRetry = this.around.later(() => void this.askAndConnect(), wait)
  }

  private async askAndConnect() {
    if ((await this.around.signedIn()) === false) {
      this.stand('signed-out')
      return
    }
    this.connect()
  }

  private stand(link: LinkState) {
    if (link === this.link) return
    this.link = link
    this.since = this.around.now()
    this.tell(this.standing())
  }
}

/** The environment in a browser. */
export function browser(): Surroundings {
  return {
    open: (url) => new EventSource(url) as unknown as Source,
    signedIn: () =>
      fetch('/api/me').then(
        (response) => (response.status === 401 ? false : response.ok ? true : undefined),
        () => undefined,
      ),
    later: (act, ms) => {
      const timer = setTimeout(act, ms)
      return () => clearTimeout(timer)
    },
    now: () => Date.now(),
  }
}
