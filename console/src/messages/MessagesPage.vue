<script setup lang="ts">
/** The live list of messages, with filters in the address. */
import { computed, ref, shallowRef, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, asked } from '../api/client'
import { EventKind, ListOrder, MessageAct, MessageState } from '../api/schema'
import type { Pulse, Reason } from '../api/schema'
import { useAsked, useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'
import { optionsOf, useWorkspace } from '../shell/useWorkspace'
import EmptyState from '../ui/EmptyState.vue'
import PickList from '../ui/PickList.vue'
import TermHelp from '../ui/TermHelp.vue'
import TimeRange from '../ui/TimeRange.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAddressFilters } from '../ui/useAddressFilters'
import { count } from '../words/format'
import { toQuery } from '../words/spans'
import { messageStates } from '../words/states'
import BulkDialog from './BulkDialog.vue'
import ColumnMenu from './ColumnMenu.vue'
import { type ColumnKey, shownColumns, type Sort, sortedBy } from './columns'
import { keys, pulsesSuffice } from './filters'
import { lastList } from './lastList'
import MessageTable from './MessageTable.vue'
import { type Listed, reduceMessages } from './reduceMessages'
import { useColumns } from './useColumns'

const PAGE = 200

useWorkspace()
const route = useRoute()
const { filters, set, change, picks, filtered } = useAddressFilters(keys)
const listed = shallowRef<Listed>({ rows: [] })
const loaded = ref(false)

const oldest = computed(() => filters.value.order === ListOrder.oldest)

const ask = (before = '') =>
  asked(api.GET('/api/messages', { params: { query: { ...toQuery(filters.value, Date.now()), before, limit: PAGE } } }))
const { trouble, again, asking } = useAsked(async () => {
  const page = await ask()
  listed.value = reduceMessages(listed.value, { kind: 'first', page, oldest: oldest.value })
  loaded.value = true
})
const soon = useThrottled(() => void again(), 1500)
/** Interval of reloads if pulses alone keep the list up to date, except for events they left out. */
const later = useThrottled(() => void again(), 8000)
let loadingOlder = false
async function older() {
  if (loadingOlder || !listed.value.next) return
  loadingOlder = true
  const before = listed.value.next
  try {
    const page = await ask(before)
    // The filters have changed: this page belongs to the earlier list.
    if (listed.value.next === before) listed.value = reduceMessages(listed.value, { kind: 'older', page })
  } finally {
    loadingOlder = false
  }
}
useLive({
  pulse: (pulse: Pulse) => {
    listed.value = reduceMessages(listed.value, { kind: 'pulse', pulse, filters: filters.value })
    if (pulse.changes.some((change) => change.kind === EventKind.message))
      (pulsesSuffice(filters.value) ? later : soon)()
  },
  anew: soon,
})

const { chosen } = useColumns()
const failures = computed(() => filters.value.state === MessageState.failed)
const shown = computed(() => shownColumns(listed.value.rows, chosen.value, failures.value))
/** A sort by another column than the time of arrival, which the service sorts by. */
const sorting = ref<Sort>()
const sort = computed(() => sorting.value ?? { key: 'received' as const, descending: !oldest.value })
const whole = computed(() => loaded.value && !listed.value.next)
const rows = computed(() =>
  sorting.value && whole.value
    ? sortedBy(listed.value.rows, sorting.value.key, sorting.value.descending)
    : listed.value.rows,
)
function sortBy(key: ColumnKey) {
  const descending = sort.value.key === key && !sort.value.descending
  if (key !== 'received') return void (sorting.value = { key, descending })
  sorting.value = undefined
  set('order', sort.value.descending ? ListOrder.oldest : '')
}

const reason = shallowRef<Reason>()
/** The act of the open dialog. */
const bulk = ref<MessageAct>()
const acts = computed(() => {
  const all = [
    { act: MessageAct.amend, text: 'Amend all…' },
    { act: MessageAct.resend, text: 'Resend all…' },
  ]
  return reason.value?.helps === MessageAct.amend ? all.reverse() : all
})
watch(
  () => rows.value,
  (rows) => (lastList.value = { ids: rows.map((row) => row.id), address: route.fullPath }),
)
watch(
  filters,
  async (now, before) => {
    if (JSON.stringify(now) === JSON.stringify(before)) return
    listed.value = { rows: [] }
    loaded.value = false
    void again()
    const wanted = now.reason
    reason.value = undefined
    if (wanted) {
      const all = await asked(api.GET('/api/reasons')).catch(() => [])
      reason.value = all.find((one) => one.id === wanted)
    }
  },
  { immediate: true },
)

const number = computed(() => filters.value.key ?? filters.value.key_prefix ?? '')
const typed = ref(number.value)
watch(number, (text) => (typed.value = text))
const states = messageStates.map((state) => ({ value: state, text: state }))
const directions = [
  { value: 'in', text: 'comes to us' },
  { value: 'out', text: 'goes to partners' },
]

/** Filters without a field. */
const others = computed(() => (['step', 'arrival'] as const).filter((key) => filters.value[key]))
</script>

<template>
  <div>
    <header class="mb-3 flex flex-wrap items-baseline gap-x-3">
      <h1 class="text-xl font-semibold">Messages</h1>
      <p class="text-sm text-soft">
        One <TermHelp term="message" /> for each document on its way through a flow, newest first.
      </p>
    </header>
    <div class="mb-3 flex flex-wrap items-center gap-2" role="search" aria-label="Filters">
      <form class="contents" @submit.prevent="change({ key: '', key_prefix: typed.trim() })">
        <label class="sr-only" for="key">Number</label>
        <input id="key" v-model="typed" class="field w-52" placeholder="Number, or its beginning" autocomplete="off" />
      </form>
      <PickList v-model="picks.state" label="State" :options="states" />
      <PickList v-model="picks.flow" label="Flow" :options="optionsOf('flows')" />
      <PickList v-model="picks.partner" label="Partner" :options="optionsOf('partners')" />
      <PickList v-model="picks.connection" label="Connection" :options="optionsOf('connections')" />
      <PickList v-model="picks.direction" label="Direction" :options="directions" />
      <TimeRange v-model:within="picks.within" v-model:since="picks.since" v-model:until="picks.until" />
      <button v-for="key in others" :key="key" type="button" class="button" @click="set(key, '')">
        {{ key }} {{ filters[key] }} <span aria-hidden="true">✕</span><span class="sr-only">: remove this filter</span>
      </button>
      <RouterLink v-if="filtered" to="/messages" class="link text-sm">Show all</RouterLink>
      <ColumnMenu :shown="shown" />
    </div>
    <div
      v-if="reason"
      class="mb-3 flex flex-wrap items-center gap-3 rounded-lg border bg-surface px-4 py-2.5"
      style="border-color: color-mix(in oklab, var(--color-failed) 38%, var(--color-line))"
    >
      <div class="min-w-0 grow">
        <p class="font-medium">
          {{ count(reason.messages, 'message needs', 'messages need') }} attention at {{ reason.step }}:
          {{ reason.says }}
        </p>
        <p class="text-sm text-soft">{{ reason.advice }}</p>
      </div>
      <button
        v-for="(one, n) in acts"
        :key="one.act"
        type="button"
        class="button"
        :class="n === acts.length - 1 && 'button-main'"
        @click="bulk = one.act"
      >
        {{ one.text }}
      </button>
      <button type="button" class="button button-plain" @click="set('reason', '')">Show all reasons</button>
    </div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-3" @again="again" />
    <MessageTable
      v-if="listed.rows.length"
      :rows="rows"
      :columns="shown"
      :busy="asking && !loaded"
      :failures="failures"
      :sort="sort"
      :whole="whole"
      @end="older"
      @sort="sortBy"
    />
    <EmptyState v-else-if="loaded && filtered" title="No message matches these filters">
      <RouterLink to="/messages" class="link">Show all messages</RouterLink>, or remove a filter.
    </EmptyState>
    <EmptyState v-else-if="loaded" title="No messages yet">
      Each received document becomes a message. Put a file into the folder of an intake, or submit one:
      <code>wirewatch submit FLOW FILE</code>.
    </EmptyState>
    <BulkDialog v-if="reason" :act="bulk" :reason="reason" @close="((bulk = undefined), again())" />
  </div>
</template>
