<script setup lang="ts">
/** Orders with their milestones, newest first. */
import { EventKind, OrderState } from '../api/schema'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, asked } from '../api/client'
import { optionsOf, titleOf, useWorkspace } from '../shell/useWorkspace'
import EmptyState from '../ui/EmptyState.vue'
import PickList from '../ui/PickList.vue'
import StateBadge from '../ui/StateBadge.vue'
import TermHelp from '../ui/TermHelp.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAddressFilters } from '../ui/useAddressFilters'
import { useLiveList } from '../ui/useLiveList'
import { orderStates } from '../words/states'
import OrderLine from './OrderLine.vue'

useWorkspace()
const router = useRouter()
const { filters, picks, filtered } = useAddressFilters(['plan', 'partner', 'state'])
const { rows, next, loaded, loading, trouble, again, older } = useLiveList(
  () => filters.value,
  async (query, before) => {
    const page = await asked(
      api.GET('/api/orders', {
        params: { query: { ...query, state: query.state as OrderState | undefined, before, limit: 50 } },
      }),
    )
    return { rows: page.orders, next: page.next }
  },
  (order) => `${order.plan} ${order.partner} ${order.key}`,
  ({ changes }) => changes.some((change) => change.kind === EventKind.message),
)
const number = ref('')
const go = () => number.value.trim() && router.push(`/orders/${encodeURIComponent(number.value.trim())}`)
const words: Record<string, string> = { open: 'open', trouble: 'in trouble' }
const options = orderStates.map((value) => ({ value, text: words[value] ?? value }))
</script>

<template>
  <div>
    <header class="mb-3 flex flex-wrap items-baseline gap-x-3">
      <h1 class="text-xl font-semibold">Orders</h1>
      <p class="text-sm text-soft">
        Each <TermHelp term="order" /> along its <TermHelp term="milestone" word="milestones" />, newest first.
      </p>
    </header>
    <div class="mb-3 flex flex-wrap items-center gap-2" role="search" aria-label="Filters">
      <form class="contents" @submit.prevent="go">
        <label class="sr-only" for="number">Order number</label>
        <input id="number" v-model="number" class="field w-44" placeholder="Order number" autocomplete="off" />
      </form>
      <PickList v-model="picks.state" label="State" :options="options" />
      <PickList v-model="picks.partner" label="Partner" :options="optionsOf('partners')" />
      <PickList v-model="picks.plan" label="Plan" :options="optionsOf('plans')" />
      <RouterLink v-if="filtered" to="/orders" class="link text-sm">Show all</RouterLink>
    </div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-3" @again="again" />
    <ul v-if="rows.length" class="panel divide-y divide-line/60">
      <li
        v-for="order in rows"
        :key="`${order.plan} ${order.partner} ${order.key}`"
        :data-order="order.key"
        :data-state="order.state"
        class="grid grid-cols-[10rem_minmax(0,13rem)_minmax(0,1fr)] items-center gap-4 px-4 py-2 hover:bg-sunken"
      >
        <div>
          <RouterLink
            :to="`/orders/${encodeURIComponent(order.key)}`"
            class="font-medium hover:text-thread hover:underline"
            >{{ order.key }}</RouterLink
          >
          <p class="mt-0.5"><StateBadge :state="order.state" :word="words[order.state]" /></p>
        </div>
        <div class="min-w-0 text-sm text-soft">
          <p class="truncate">{{ titleOf('partners', order.partner) }}</p>
          <p class="text-xs text-faint"><TimeText :at="order.begun" /></p>
        </div>
        <OrderLine :order="order" />
      </li>
    </ul>
    <p v-if="next" class="mt-3 text-center">
      <button type="button" class="button" :disabled="loading" @click="older">Older</button>
    </p>
    <EmptyState v-if="loaded && !rows.length && filtered" title="No order matches these filters">
      <RouterLink to="/orders" class="link">Show all orders</RouterLink>, or remove a filter.
    </EmptyState>
    <EmptyState v-else-if="loaded && !rows.length" title="No orders yet">
      An order appears here when a document with its number passes the first milestone of a plan. Plans are files in the
      workspace’s folder <code>plans</code>.
    </EmptyState>
  </div>
</template>
