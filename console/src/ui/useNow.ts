import { onScopeDispose, readonly, ref } from 'vue'

const now = ref(Date.now())
let users = 0
let timer: ReturnType<typeof setInterval> | undefined

/** The current time, updated once a second, shared by all ages on the page. */
export function useNow() {
  if (users++ === 0) {
    now.value = Date.now()
    timer = setInterval(() => (now.value = Date.now()), 1000)
  }
  onScopeDispose(() => {
    if (--users === 0) clearInterval(timer)
  })
  return readonly(now)
}
