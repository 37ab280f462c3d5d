<script setup lang="ts">
/** Orders with their milestones, newest first. */
import { EventKind } from '../api/schema'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, asked } from '../api/client'
import { optionsOf, titleOf, useWorkspace } from '../shell/useWorkspace'
import EmptyState from '../ui/EmptyState.vue'
import PickList from '../ui/PickList.vue'
import StateBadge from '../ui/StateBadge.vue'
import TermHelp from '../ui/TermHelp.vue'
import TimeRange from '../ui/TimeRange.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAddressFilters } from '../ui/useAddressFilters'
import { useLiveList } from '../ui/useLiveList'
import { count, figure } from '../words/format'
import { toQuery } from '../words/spans'
import { orderStates } from '../words/states'
import OrderLine from './OrderLine.vue'

/** Most orders that the service counts. */
const COUNTED = 10_000

useWorkspace()
const router = useRouter()
const total = ref(0)
const { filters, picks, filtered } = useAddressFilters(['plan', 'partner', 'state', 'within', 'since', 'until'])
const { rows, next, loaded, loading, trouble, again, older } = useLiveList(
  () => filters.value,
  async (query, before) => {
    const page = await asked(
      api.GET('/api/orders', {
        params: { query: { ...toQuery(query, Date.now()), before, limit: 100 } },
      }),
    )
    if (!before) total.value = page.total
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
      <TimeRange v-model:within="picks.within" v-model:since="picks.since" v-model:until="picks.until" label="Began" />
      <RouterLink v-if="filtered" to="/orders" class="link text-sm">Show all</RouterLink>
      <p v-if="loaded" class="ml-auto text-sm text-soft" data-part="total">
        {{ total === COUNTED ? `${figure(COUNTED)} orders or more` : count(total, 'order') }}
      </p>
    </div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-3" @again="again" />
    <ul v-if="rows.length" class="panel divide-y divide-line/60">
      <li
        v-for="order in rows"
        :key="`${order.plan} ${order.partner} ${order.key}`"
        :data-order="order.key"
        :data-state="order.state"
        class="grid grid-cols-[7.5rem_7rem_minmax(0,11rem)_minmax(0,1fr)_6rem] items-center gap-x-4 px-4 py-1 hover:bg-sunken max-[899px]:grid-cols-[7.5rem_7rem_minmax(0,1fr)]"
      >
        <RouterLink
          :to="`/orders/${encodeURIComponent(order.key)}`"
          class="truncate font-medium hover:text-thread hover:underline"
          >{{ order.key }}</RouterLink
        >
        <p><StateBadge :state="order.state" :word="words[order.state]" /></p>
        <p class="truncate text-sm text-soft">{{ titleOf('partners', order.partner) }}</p>
        <OrderLine :order="order" class="max-[899px]:col-span-full" />
        <p class="text-right text-sm text-faint"><TimeText :at="order.begun" /></p>
        <p v-if="order.says" class="col-span-full truncate text-sm text-failed" data-part="says" :title="order.says">
          ▲ {{ order.says
          }}<span v-if="order.failed_since" class="text-faint">
            · <TimeText :at="order.failed_since" as="distance"
          /></span>
        </p>
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
