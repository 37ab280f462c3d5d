import { onScopeDispose, readonly, ref, shallowReadonly, shallowRef } from 'vue'
import { type Trouble, troubleOf } from './client'

/**
 * Something asked for once and again: what is known, what went wrong last, and whether an answer is under way.
 *
 * Of answers that overtake each other only the newest question's counts; what is known stays while it is asked anew.
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

/** Calls `act` at once, then at most once in `ms`; the last call is never lost. Stops with its scope. */
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

/** Calls `act` once it has not been wanted for `ms`. Stops with its scope. */
export function useSettled(act: () => void, ms: number) {
  let timer: ReturnType<typeof setTimeout> | undefined
  onScopeDispose(() => clearTimeout(timer))
  return () => {
    clearTimeout(timer)
    timer = setTimeout(act, ms)
  }
}
