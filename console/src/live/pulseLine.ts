/**
 * The line to the service's pulse: opened, watched, opened again where it broke.
 *
 * Plain TypeScript, so that the worker, a page without workers, and the tests run the same.
 */
import type { Pulse } from '../api/schema'

/** How the line stands. `catching-up` is between being open again and the first word. */
export type LinkState = 'connecting' | 'live' | 'catching-up' | 'lost' | 'signed-out'

export type Said =
  | { kind: 'link'; link: LinkState; since: number }
  | { kind: 'pulse'; pulse: Pulse }
  /** Too much was missed to be told: everything is to be asked for anew. */
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
  /** Whether somebody is signed in; `undefined` when that cannot be asked. */
  signedIn(): Promise<boolean | undefined>
  later(act: () => void, ms: number): () => void
  now(): number
}

const FIRST_WAIT = 500
const LONGEST_WAIT = 5000
/** A pulse comes every four seconds at least; without any for this long, the line is dead. */
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
    private readonly tell: (said: Said) => void,
  ) {
    this.since = around.now()
  }

  start() {
    this.connect()
  }

  /** How the line stands, for whoever joins late. */
  standing(): Said {
    return { kind: 'link', link: this.link, since: this.since }
  }

  /** Tries at once, e.g. after somebody has signed in. */
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
        // With a position it is told what it missed before it is live.
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

/** The browser as surroundings. */
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
