import { shallowReadonly, shallowRef } from 'vue'
import { api, asked } from '../api/client'
import { MessageState } from '../api/schema'
import { useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'
import { useEvery } from '../ui/useEvery'

/** How many of each need a person. */
export interface Attention {
  messages: number
  arrivals: number
  connections: number
}

/** Numbers for the sidebar, read at most every 5 s while messages pass, and every 10 s otherwise. */
export function useAttention() {
  const attention = shallowRef<Attention>({ messages: 0, arrivals: 0, connections: 0 })
  async function read() {
    try {
      const { unfinished, arrivals_failed, on_hold } = await asked(api.GET('/api/status'))
      const messages = unfinished[MessageState.failed] ?? 0
      attention.value = { messages, arrivals: arrivals_failed.length, connections: on_hold.length }
    } catch {
      // The last numbers stay; the state of the connection is shown beside them.
    }
  }
  const soon = useThrottled(() => void read(), 5000)
  useLive({ pulse: soon, anew: soon })
  useEvery(10_000, soon)
  void read()
  return shallowReadonly(attention)
}
