<script setup lang="ts">
/** Arrivals, newest first. */
import { EventKind } from '../api/schema'
import { api, asked } from '../api/client'
import { optionsOf, titleOf, useWorkspace } from '../shell/useWorkspace'
import EmptyState from '../ui/EmptyState.vue'
import PickList from '../ui/PickList.vue'
import StateBadge from '../ui/StateBadge.vue'
import TermHelp from '../ui/TermHelp.vue'
import TimeText from '../ui/TimeText.vue'
import TimeRange from '../ui/TimeRange.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAddressFilters } from '../ui/useAddressFilters'
import { useLiveList } from '../ui/useLiveList'
import { bytes } from '../words/format'
import { toQuery } from '../words/spans'
import { verdicts } from '../words/states'

useWorkspace()
const { filters, picks, filtered } = useAddressFilters([
  'connection',
  'partner',
  'verdict',
  'within',
  'since',
  'until',
  'name',
])
const { rows, next, loaded, loading, trouble, again, older } = useLiveList(
  () => filters.value,
  async (filters, before) => {
    const query = { ...toQuery(filters, Date.now()), before, limit: 100 }
    const page = await asked(api.GET('/api/arrivals', { params: { query } }))
    return { rows: page.arrivals, next: page.next }
  },
  (arrival) => arrival.id,
  ({ changes }) => changes.some((change) => change.kind === EventKind.arrival || change.began),
)
const options = verdicts.map((value) => ({ value, text: value }))
</script>

<template>
  <div>
    <header class="mb-3 flex flex-wrap items-baseline gap-x-3">
      <h1 class="text-xl font-semibold">Arrivals</h1>
      <p class="text-sm text-soft">
        Each file, call or broker message that was received, with its bytes. One <TermHelp term="arrival" /> becomes one
        message or many.
      </p>
    </header>
    <div class="mb-3 flex flex-wrap items-center gap-2" role="search" aria-label="Filters">
      <PickList v-model="picks.verdict" label="Verdict" :options="options" />
      <PickList v-model="picks.connection" label="Connection" :options="optionsOf('connections')" />
      <PickList v-model="picks.partner" label="Partner" :options="optionsOf('partners')" />
      <TimeRange v-model:within="picks.within" v-model:since="picks.since" v-model:until="picks.until" />
      <RouterLink v-if="filtered" to="/arrivals" class="link text-sm">Show all</RouterLink>
    </div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-3" @again="again" />
    <div v-if="rows.length" class="panel overflow-x-auto">
      <table class="w-full text-sm">
        <caption class="sr-only">
          Arrivals
        </caption>
        <thead>
          <tr class="border-b border-line text-left">
            <th
              v-for="name in ['Verdict', 'Name', 'From', 'Messages', 'Size', 'Note', 'Received']"
              :key="name"
              scope="col"
              class="heading px-3 py-2 first:pl-4"
              :class="{ 'max-[1439px]:hidden': name === 'Size', 'max-[899px]:hidden': name === 'From' }"
            >
              {{ name }}
            </th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="row in rows"
            :key="row.id"
            :data-arrival="row.id"
            class="border-b border-line/60 last:border-0 hover:bg-sunken"
          >
            <td class="py-1.5 pr-3 pl-4"><StateBadge :state="row.verdict" /></td>
            <td class="max-w-48 truncate px-3 py-1.5 font-medium" :title="row.name">
              <RouterLink :to="`/arrivals/${row.id}`" class="hover:text-thread hover:underline">{{
                row.name
              }}</RouterLink>
            </td>
            <td
              class="max-w-44 truncate px-3 py-1.5 text-soft max-[899px]:hidden"
              :title="titleOf('connections', row.connection)"
            >
              {{ row.partner ? titleOf('partners', row.partner) : titleOf('connections', row.connection) }}
            </td>
            <td class="max-w-56 truncate px-3 py-1.5 max-[899px]:max-w-36" :title="row.keys.join(', ')">
              <RouterLink v-if="row.messages" :to="`/messages?arrival=${row.id}`" class="link">{{
                row.messages
              }}</RouterLink>
              <span v-if="row.keys.length" class="ml-2 text-soft" data-part="keys"
                >{{ row.keys.join(', ') }}{{ row.messages > row.keys.length ? ' …' : '' }}</span
              >
            </td>
            <td class="px-3 py-1.5 whitespace-nowrap text-soft max-[1439px]:hidden">{{ bytes(row.size) }}</td>
            <td class="max-w-48 truncate px-3 py-1.5 text-soft max-[899px]:max-w-36" :title="row.says">
              {{ row.says || (row.by ? `handed in by ${row.by}` : '') }}
            </td>
            <td class="px-3 py-1.5 text-soft"><TimeText :at="row.received" /></td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="next" class="mt-3 text-center">
      <button type="button" class="button" :disabled="loading" @click="older">Older</button>
    </p>
    <EmptyState v-if="loaded && !rows.length && filtered" title="No arrival matches these filters">
      <RouterLink to="/arrivals" class="link">Show all arrivals</RouterLink>, or remove a filter.
    </EmptyState>
    <EmptyState v-else-if="loaded && !rows.length" title="No arrivals yet">
      Put a file into the folder of an intake (see
      <RouterLink to="/connections" class="link">connections</RouterLink>), or submit one:
      <code>wirewatch submit FLOW FILE</code>.
    </EmptyState>
  </div>
</template>
