import { onScopeDispose, readonly, ref } from 'vue'
import type { Pulse } from '../api/schema'
import { browser, type LinkState, PulseLine, type LineEvent } from './pulseLine'

const link = ref<LinkState>('connecting')
const since = ref(Date.now())
const followers = new Set<Follower>()
let retry = () => {}
let started = false

interface Follower {
  pulse?(pulse: Pulse): void
  /** The shown data may be out of date: reload. Also called after every break of the connection. */
  anew?(): void
}

function handle(event: LineEvent) {
  switch (event.kind) {
    case 'link': {
      const resumed = event.link === 'live' && link.value !== 'connecting' && link.value !== 'live'
      link.value = event.link
      since.value = event.since
      if (resumed) followers.forEach((follower) => follower.anew?.())
      break
    }
    case 'pulse':
      followers.forEach((follower) => follower.pulse?.(event.pulse))
      break
    case 'reset':
      followers.forEach((follower) => follower.anew?.())
      break
  }
}

function start() {
  if (started) return
  started = true
  if (typeof SharedWorker === 'undefined') {
    const line = new PulseLine(browser(), handle)
    line.start()
    retry = () => line.retry()
    return
  }
  const worker = new SharedWorker(new URL('./pulse.worker.ts', import.meta.url), { type: 'module', name: 'pulse' })
  worker.port.onmessage = ({ data }: MessageEvent<LineEvent>) => handle(data)
  retry = () => worker.port.postMessage('retry')
  addEventListener('pagehide', ({ persisted }) => {
    if (!persisted) worker.port.postMessage('leave')
  })
}

/** State of the live connection, and its pulses while this scope is active. */
export function useLive(follower: Follower = {}) {
  start()
  followers.add(follower)
  onScopeDispose(() => followers.delete(follower))
  return { link: readonly(link), since: readonly(since), retry: () => retry() }
}
