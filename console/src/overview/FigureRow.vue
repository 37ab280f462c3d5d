<script setup lang="ts">
/** Four figures for a range of time, each with a link to its list. */
import { computed, ref, watch } from 'vue'
import { api, asked } from '../api/client'
import { FigureRange } from '../api/schema'
import type { Figures, OrderCounts, Overview } from '../api/schema'
import { useAsked } from '../api/useAsked'
import FigureTable from '../ui/FigureTable.vue'
import RangeButtons from '../ui/RangeButtons.vue'
import SparkLine from '../ui/SparkLine.vue'
import TimeText from '../ui/TimeText.vue'
import { useEvery } from '../ui/useEvery'
import { took } from '../words/format'
import { change } from './figures'

const props = defineProps<{ /** What needs attention, as the rest of the page has it. */ overview?: Overview }>()
const range = ref<FigureRange>(FigureRange.Value1h)
/** The range in the filter of orders. */
const within: Record<FigureRange, string> = { '15m': '15m', '1h': '1h', '24h': '1d' }
const table = ref(false)
const { known, again } = useAsked((): Promise<Figures> =>
  asked(api.GET('/api/figures', { params: { query: { range: range.value } } })),
)
watch(range, () => void again(), { immediate: true })
useEvery(5000, again)
const span = (us: number | null | undefined) => (us === null || us === undefined ? '–' : took(us))
const progress = ({ open, trouble }: OrderCounts) =>
  open ? `${open} in progress${trouble ? `, ${trouble} in trouble` : ''}` : ''
const cards = computed(() => {
  if (!known.value) return []
  const { orders, before, slots, failed_since, acknowledgments, acknowledgments_since } = known.value
  const failed = props.overview?.reasons.reduce((sum, reason) => sum + reason.messages, 0) ?? known.value.failed
  const arrivals_failed = props.overview?.arrivals_failed.length ?? known.value.arrivals_failed
  return [
    {
      name: 'orders',
      title: 'Orders in',
      value: `${orders.orders}`,
      beside: progress(orders) || 'all of them are done',
      before: change(orders.orders, before.orders),
      values: slots.map((slot) => slot.orders),
      to: `/orders?within=${within[range.value]}`,
    },
    {
      name: 'median',
      title: 'Median duration',
      value: span(orders.median_us),
      beside: `95th percentile ${span(orders.p95_us)}`,
      values: slots.map((slot) => slot.median_us),
      to: `/orders?state=done&within=${within[range.value]}`,
    },
    {
      name: 'attention',
      title: 'Need attention',
      value: `${failed + arrivals_failed}`,
      since: failed_since,
      beside: failed || arrivals_failed ? '' : 'nothing has failed',
      to: failed || !arrivals_failed ? '/messages?state=failed' : '/arrivals?verdict=failed',
      grave: failed + arrivals_failed > 0,
    },
    {
      name: 'acknowledgments',
      title: 'Acknowledgments outstanding',
      value: `${acknowledgments}`,
      since: acknowledgments_since,
      beside: acknowledgments ? '' : 'every partner has them',
      to: '/messages?flow=acknowledgments',
    },
  ]
})
</script>

<template>
  <section aria-label="Figures" class="mb-3">
    <div class="mb-2 flex flex-wrap items-center gap-x-3 gap-y-1">
      <slot />
      <div class="ml-auto flex items-center gap-3">
        <button type="button" class="link text-xs whitespace-nowrap" @click="table = true">As a table</button>
        <RangeButtons v-model="range" />
      </div>
    </div>
    <div class="grid grid-cols-2 gap-3 lg:grid-cols-4">
      <RouterLink
        v-for="card in cards"
        :key="card.name"
        :to="card.to"
        class="panel flex flex-wrap items-center gap-x-3 px-3 py-1.5 hover:border-thread"
        :data-figure="card.name"
      >
        <p class="flex w-full flex-wrap justify-between gap-x-2 text-xs text-soft">
          {{ card.title }}
          <span v-if="card.before" class="text-faint" title="in the range of the same length before">{{
            card.before
          }}</span>
        </p>
        <p class="text-xl font-semibold" :class="card.grave && 'text-failed'">{{ card.value }}</p>
        <div v-if="card.values" class="min-w-16 grow basis-0"><SparkLine :values="card.values" /></div>
        <p class="line-clamp-2 w-full text-xs text-faint">
          <template v-if="card.since">the oldest <TimeText :at="card.since" as="distance" /></template>{{ card.beside }}
        </p>
      </RouterLink>
    </div>
    <FigureTable
      :open="table"
      title="Orders in this range"
      :heads="['Orders', 'Median duration']"
      :rows="known?.slots.map((slot) => ({ at: slot.at, cells: [slot.orders, span(slot.median_us)] })) ?? []"
      @close="table = false"
    />
  </section>
</template>
