import { computed, reactive } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** Of an address's query, the named texts that say something. */
export function fromAddress<Key extends string>(
  keys: readonly Key[],
  query: Record<string, unknown>,
): Partial<Record<Key, string>> {
  const pairs = keys.map((key) => [key, query[key]] as const)
  return Object.fromEntries(pairs.filter(([, value]) => typeof value === 'string' && value !== '')) as Partial<
    Record<Key, string>
  >
}

/** Filters that stand in the address bar and nowhere else, so that a filtered list is an address that can be sent. */
export function useAddressFilters<Key extends string>(keys: readonly Key[]) {
  const route = useRoute()
  const router = useRouter()
  const filters = computed(() => fromAddress(keys, route.query))
  const set = (key: Key, value: string) =>
    void router.replace({
      query: { ...filters.value, [key]: value || undefined } as Record<string, string | undefined>,
    })
  /** For `v-model`: the text of each filter, empty when there is none. */
  const picks = reactive(
    Object.fromEntries(
      keys.map((key) => [
        key,
        computed({ get: () => filters.value[key] ?? '', set: (value: string) => set(key, value) }),
      ]),
    ),
  ) as unknown as Record<Key, string>
  const filtered = computed(() => Object.keys(filters.value).length > 0)
  return { filters, set, picks, filtered }
}
