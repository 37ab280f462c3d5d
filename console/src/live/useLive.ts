import { onScopeDispose, readonly, ref } from 'vue'
import type { Pulse } from '../api/schema'
import { browser, type LinkState, PulseLine, type Said } from './pulseLine'

const link = ref<LinkState>('connecting')
const since = ref(Date.now())
const followers = new Set<Follower>()
let retry = () => {}
let started = false

interface Follower {
  pulse?(pulse: Pulse): void
  /** What is shown may be out of date: ask anew. Also after every break of the line. */
  anew?(): void
}

function hear(said: Said) {
  switch (said.kind) {
    case 'link': {
      const resumed = said.link === 'live' && link.value !== 'connecting' && link.value !== 'live'
      link.value = said.link
      since.value = said.since
      if (resumed) followers.forEach((follower) => follower.anew?.())
      break
    }
    case 'pulse':
      followers.forEach((follower) => follower.pulse?.(said.pulse))
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
    const line = new PulseLine(browser(), hear)
    line.start()
    retry = () => line.retry()
    return
  }
  const worker = new SharedWorker(new URL('./pulse.worker.ts', import.meta.url), { type: 'module', name: 'pulse' })
  worker.port.onmessage = ({ data }: MessageEvent<Said>) => hear(data)
  retry = () => worker.port.postMessage('retry')
  addEventListener('pagehide', ({ persisted }) => {
    if (!persisted) worker.port.postMessage('leave')
  })
}

/** How the line to the service stands, and the pulses while this scope lives. */
export function useLive(follower: Follower = {}) {
  start()
  followers.add(follower)
  onScopeDispose(() => followers.delete(follower))
  return { link: readonly(link), since: readonly(since), retry: () => retry() }
}
