import { computed, reactive } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** Returns the named, non-empty texts of a query. */
export function fromAddress<Key extends string>(
  keys: readonly Key[],
  query: Record<string, unknown>,
): Partial<Record<Key, string>> {
  const pairs = keys.map((key) => [key, query[key]] as const)
  return Object.fromEntries(pairs.filter(([, value]) => typeof value === 'string' && value !== '')) as Partial<
    Record<Key, string>
  >
}

/** Filters stored only in the address, so that the address of a filtered list can be sent to a colleague. */
export function useAddressFilters<Key extends string>(keys: readonly Key[]) {
  const route = useRoute()
  const router = useRouter()
  const filters = computed(() => fromAddress(keys, route.query))
  /** Sets several filters at once; an empty text removes one. */
  const change = (values: Partial<Record<Key, string>>) => {
    const given = Object.entries({ ...filters.value, ...values }).filter(([, value]) => value)
    void router.replace({ query: Object.fromEntries(given) as Record<string, string> })
  }
  const set = (key: Key, value: string) => change({ [key]: value } as Partial<Record<Key, string>>)
  /** For `v-model`: the text of each filter; empty if not set. */
  const picks = reactive(
    Object.fromEntries(
      keys.map((key) => [
        key,
        computed({ get: () => filters.value[key] ?? '', set: (value: string) => set(key, value) }),
      ]),
    ),
  ) as unknown as Record<Key, string>
  const filtered = computed(() => Object.keys(filters.value).length > 0)
  return { filters, set, change, picks, filtered }
}
