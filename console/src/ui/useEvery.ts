import { onScopeDispose } from 'vue'

/** Calls a function at an interval while the page is visible. */
export function useEvery(ms: number, act: () => unknown) {
  const timer = setInterval(() => {
    if (!document.hidden) act()
  }, ms)
  onScopeDispose(() => clearInterval(timer))
}
