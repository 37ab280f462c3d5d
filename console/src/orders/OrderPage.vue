<script setup lang="ts">
/** One order: its milestones, everything that happened to it, its content, its messages, and what can be done with them. */
import { DocumentForm, MessageAct, MessageState, OrderState } from '../api/schema'
import type { DocumentView } from '../api/schema'
import { computed, shallowRef, watch } from 'vue'
import { api, asked } from '../api/client'
import { useAsked, useSettled, useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'
import { whyOf } from '../messages/whyOf'
import { titleOf, useWorkspace } from '../shell/useWorkspace'
import StateBadge from '../ui/StateBadge.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { took } from '../words/format'
import CodeView from '../ui/CodeView.vue'
import OrderEvents from './OrderEvents.vue'
import OrderLine from './OrderLine.vue'

const props = defineProps<{ orderKey: string }>()
useWorkspace()
const {
  known: story,
  trouble,
  again,
  forget,
} = useAsked(
  (signal) => asked(api.GET('/api/orders/{key}', { params: { path: { key: props.orderKey } }, signal })),
  () => ['order', props.orderKey],
)
const soon = useThrottled(() => void again(), 1000)
// Milestones are stored a moment after the messages that reach them.
const after = useSettled(soon, 1500)
useLive({
  pulse: ({ changes }) => {
    const ours = new Set(story.value?.messages.map((one) => one.id))
    if (changes.some((change) => change.key === props.orderKey || ours.has(change.id ?? ''))) {
      soon()
      after()
    }
  },
  anew: soon,
})
watch(
  () => props.orderKey,
  () => {
    forget()
    void again()
  },
  { immediate: true },
)
/** The message that the order came with: the oldest. */
const first = computed(() => story.value?.messages.at(-1))
const failed = computed(() => story.value?.messages.filter((one) => one.state === MessageState.failed) ?? [])
const content = shallowRef<DocumentView>()
/** An amendment changes the content, and the time of the message's last change. */
watch(
  () => first.value && `${first.value.id} ${first.value.changed}`,
  async () => {
    const id = first.value?.id
    if (!id) return void (content.value = undefined)
    const got = await asked(api.GET('/api/messages/{id}/document', { params: { path: { id } } })).catch(() => undefined)
    if (first.value?.id === id) content.value = got
  },
)
const form = computed(() => {
  const own = content.value?.form ?? DocumentForm.bytes
  return [DocumentForm.json, DocumentForm.x12].includes(own) ? own : DocumentForm.bytes
})
const duration = computed(() => {
  const order = story.value?.orders[0]
  return order?.state === OrderState.done ? took((Date.parse(order.changed) - Date.parse(order.begun)) * 1000) : ''
})
</script>

<template>
  <div>
    <header class="mb-4">
      <p class="text-sm text-faint">
        <RouterLink to="/orders" class="hover:text-thread hover:underline">Orders</RouterLink>
      </p>
      <h1 class="flex items-center gap-3 text-xl font-semibold">
        {{ orderKey }}
        <StateBadge v-if="story?.orders[0]" :state="story.orders[0].state" />
      </h1>
      <p v-for="one in failed" :key="one.id" class="mt-1 flex flex-wrap items-center gap-2" data-part="failed">
        <span class="font-medium text-failed">▲ {{ one.says }}</span>
        <RouterLink :to="`/messages/${one.id}?act=${MessageAct.amend}`" class="button">Amend…</RouterLink>
        <RouterLink :to="`/messages/${one.id}?act=${MessageAct.resend}`" class="button">Resend…</RouterLink>
      </p>
      <p v-if="duration" class="text-sm text-soft">From the first milestone to the last in {{ duration }}.</p>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="again" />
    <section v-for="order in story?.orders" :key="order.plan + order.partner" class="panel mb-4 px-4 pt-3 pb-4">
      <h2 class="mb-2 font-semibold">
        {{ titleOf('plans', order.plan) }}
        <span v-if="order.partner" class="font-normal text-faint">· {{ titleOf('partners', order.partner) }}</span>
      </h2>
      <OrderLine :order="order" large />
    </section>
    <div v-if="story?.messages.length" class="mb-4 grid items-start gap-4 lg:grid-cols-2">
      <section class="panel px-4 py-3" aria-labelledby="happened">
        <h2 id="happened" class="mb-1 font-semibold">What happened</h2>
        <OrderEvents :events="story.events" />
        <p v-if="story.total > story.messages.length" class="pt-2 text-sm text-faint">
          Arrivals, acts and acknowledgments of its first {{ story.messages.length }} documents.
        </p>
      </section>
      <CodeView
        v-if="content"
        :key="content.text"
        :model-value="content.text"
        :form="form"
        label="The content of the order"
        class="panel h-96 overflow-hidden"
      >
        <template #title><span class="heading">Content</span></template>
      </CodeView>
    </div>
    <section v-if="story?.messages.length" class="panel overflow-x-auto">
      <h2 class="px-4 pt-3 pb-1 font-semibold">
        Its documents
        <RouterLink
          v-if="story.total > story.messages.length"
          :to="{ path: '/messages', query: { key: orderKey } }"
          class="link font-normal"
          >the newest {{ story.messages.length }} of {{ story.total }}</RouterLink
        >
      </h2>
      <table class="w-full text-sm">
        <caption class="sr-only">
          Messages of this order
        </caption>
        <thead>
          <tr class="border-b border-line text-left">
            <th
              v-for="name in ['State', 'Flow', 'Number', 'In the target', 'Why', 'Received']"
              :key="name"
              scope="col"
              class="heading px-4 py-2"
            >
              {{ name }}
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="message in story.messages" :key="message.id" class="border-b border-line/60 last:border-0">
            <td class="px-4 py-1.5"><StateBadge :state="message.state" /></td>
            <td class="px-4 py-1.5">
              <RouterLink :to="`/messages/${message.id}`" class="link">{{ titleOf('flows', message.flow) }}</RouterLink>
            </td>
            <td class="px-4 py-1.5">{{ message.key }}</td>
            <td class="px-4 py-1.5">{{ message.result }}</td>
            <td class="max-w-96 truncate px-4 py-1.5 text-soft" :title="whyOf(message)">{{ whyOf(message) }}</td>
            <td class="px-4 py-1.5 text-soft"><TimeText :at="message.received" /></td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
</template>
