import { QueryClient, QueryObserver, type QueryObserverOptions } from '@tanstack/query-core'
import { onScopeDispose, readonly, ref, shallowReadonly, shallowRef } from 'vue'
import { type Trouble, troubleOf } from './client'

/** What a key was answered with last is shown at once by a page that is opened again, until its own answer arrives. */
const client = new QueryClient({
  defaultOptions: {
    queries: {
      enabled: false,
      gcTime: 5 * 60_000,
      // A service on this machine is reached without any network.
      networkMode: 'always',
      // A service that cannot be reached is asked once more, e.g. while it restarts.
      retry: (times, error) => times < 1 && troubleOf(error).status === 0,
      retryDelay: 500,
    },
  },
})

/** Forgets all answers, e.g. because the session has ended. */
export const forgetAnswers = () => client.clear()

interface Answer<T> {
  value: T
}

let unnamed = 0

/**
 * Data that is loaded and reloaded: the last value, the last error, and whether a request is running.
 *
 * A new request cancels the one before it. The last value stays during a reload, and after an error. With a `key`, the value is kept
 * for other pages with the same key.
 */
export function useAsked<T>(ask: (signal: AbortSignal) => Promise<T>, key?: () => readonly unknown[]) {
  const known = shallowRef<T>()
  const trouble = shallowRef<Trouble>()
  const asking = ref(false)
  const own = ['unnamed', unnamed++]
  const options = (): QueryObserverOptions<Answer<T>> => ({
    queryKey: key?.() ?? own,
    // An answer without a value is one all the same.
    queryFn: async ({ signal }) => ({ value: await ask(signal) }),
    ...(key ? {} : { gcTime: 0 }),
  })
  let observer: QueryObserver<Answer<T>> | undefined
  let ended = false
  let stop = () => {}
  /** The key that `known` belongs to. */
  let shown = ''

  /** The observer of the key as it is now. */
  function observing(): QueryObserver<Answer<T>> {
    if (observer) {
      observer.setOptions(options())
      return observer
    }
    const made = new QueryObserver<Answer<T>>(client, options())
    stop = made.subscribe(({ data, error, isFetching }) => {
      // Until it is answered, the last answer is shown by `show`.
      if (data && !isFetching) known.value = data.value
      trouble.value = error ? troubleOf(error) : undefined
      asking.value = isFetching
    })
    return (observer = made)
  }

  /** Another key shows its own last answer, or none. Watchers that a page is still setting up see the change. */
  function show(key: string, cached: Answer<T> | undefined) {
    if (key === shown) return
    shown = key
    void Promise.resolve().then(() => {
      if (shown === key && !ended) known.value = cached?.value
    })
  }

  async function again() {
    if (ended) return
    const observed = observing()
    const { queryKey } = observed.options
    show(JSON.stringify(queryKey), observed.getCurrentResult().data)
    // A request for the first value would be shared; ours may ask for something else by now.
    void client.cancelQueries({ queryKey: queryKey!, exact: true }, { silent: true })
    await observed.refetch({ cancelRefetch: true })
  }

  function forget() {
    void client.cancelQueries({ queryKey: observer?.options.queryKey ?? own, exact: true })
    shown = ''
    known.value = undefined
    trouble.value = undefined
  }

  onScopeDispose(() => {
    ended = true
    stop()
  })
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
