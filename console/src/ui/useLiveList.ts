import { ref, shallowRef, watch } from 'vue'
import type { Pulse } from '../api/schema'
import { useAsked, useSettled, useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'

interface Page<T> {
  rows: T[]
  next?: string | null
}

/**
 * A list that reloads its first page whenever a pulse may concern it. Later pages stay loaded.
 *
 * A change of `filters` starts the list again.
 */
export function useLiveList<T, F>(
  filters: () => F,
  ask: (filters: F, before: string) => Promise<Page<T>>,
  key: (row: T) => string,
  concerns: (pulse: Pulse) => boolean,
) {
  const rows = shallowRef<T[]>([])
  const next = ref<string | null>()
  const loaded = ref(false)
  const { trouble, again } = useAsked(async () => {
    const page = await ask(filters(), '')
    const fresh = new Set(page.rows.map(key))
    const last = page.rows.at(-1)
    const place = last ? rows.value.findIndex((row) => key(row) === key(last)) : -1
    // If the last row of the page is unknown, rows between may be missing: start again.
    const older = place >= 0 ? rows.value.slice(place + 1).filter((row) => !fresh.has(key(row))) : []
    if (!older.length) next.value = page.next
    rows.value = [...page.rows, ...older]
    loaded.value = true
  })
  const soon = useThrottled(() => void again(), 1000)
  // Results of a change, such as an order's milestone, are stored a moment later.
  const after = useSettled(soon, 1500)
  useLive({
    pulse: (pulse) => {
      if (!concerns(pulse)) return
      soon()
      after()
    },
    anew: soon,
  })

  const loading = ref(false)
  async function older() {
    const before = next.value
    if (!before || loading.value) return
    loading.value = true
    try {
      const page = await ask(filters(), before)
      const known = new Set(rows.value.map(key))
      rows.value = [...rows.value, ...page.rows.filter((row) => !known.has(key(row)))]
      next.value = page.next
    } finally {
      loading.value = false
    }
  }

  watch(
    () => JSON.stringify(filters()),
    () => {
      rows.value = []
      loaded.value = false
      void again()
    },
    { immediate: true },
  )
  return { rows, next, loaded, loading, trouble, again, older }
}
