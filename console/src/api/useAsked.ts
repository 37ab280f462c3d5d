import { onScopeDispose, readonly, ref, shallowReadonly, shallowRef } from 'vue'
import { type Trouble, troubleOf } from './client'

/**
 * Data that is loaded and reloaded: the last value, the last error, and whether a request is running.
 *
 * If answers arrive out of order, only the one to the newest request counts. The last value stays during a reload.
 */
export function useAsked<T>(ask: () => Promise<T>) {
  const known = shallowRef<T>()
  const trouble = shallowRef<Trouble>()
  const asking = ref(false)
  let newest = 0

  async function again() {
    const own = ++newest
    asking.value = true
    try {
      const answer = await ask()
      if (own !== newest) return
      known.value = answer
      trouble.value = undefined
    } catch (error) {
      if (own === newest) trouble.value = troubleOf(error)
    } finally {
      if (own === newest) asking.value = false
    }
  }

  function forget() {
    newest++
    known.value = undefined
    trouble.value = undefined
  }

  onScopeDispose(() => newest++)
  return { known, trouble: shallowReadonly(trouble), asking: readonly(asking), again, forget }
}

/** Throttle: calls `act` at once, then at most once in `ms`; the last call is never lost. Stops with its scope. */
export function useThrottled(act: () => void, ms: number) {
  let timer: ReturnType<typeof setTimeout> | undefined
  let wanted = false
  const next = () => {
    timer = undefined
    if (wanted) run()
  }
  const run = () => {
    wanted = false
    timer = setTimeout(next, ms)
    act()
  }
  onScopeDispose(() => clearTimeout(timer))
  return () => {
    if (timer) wanted = true
    else run()
  }
}

/** Debounce: calls `act` after `ms` without another call. Stops with its scope. */
export function useSettled(act: () => void, ms: number) {
  let timer: ReturnType<typeof setTimeout> | undefined
  onScopeDispose(() => clearTimeout(timer))
  return () => {
    clearTimeout(timer)
    timer = setTimeout(act, ms)
  }
}
