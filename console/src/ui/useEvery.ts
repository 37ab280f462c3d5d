import { onScopeDispose } from 'vue'

/** Does something now and then while the page is in sight. */
export function useEvery(ms: number, act: () => unknown) {
  const timer = setInterval(() => {
    if (!document.hidden) act()
  }, ms)
  onScopeDispose(() => clearInterval(timer))
}
