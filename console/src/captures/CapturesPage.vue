<script setup lang="ts">
/** Captures: temporary addresses and taps that record whatever arrives, before there is a flow for it. */
import { CaptureType, ConnectionType } from '../api/schema'
import { computed, onMounted, ref, shallowRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { useAsked } from '../api/useAsked'
import EmptyState from '../ui/EmptyState.vue'
import ModalDialog from '../ui/ModalDialog.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useEvery } from '../ui/useEvery'
import { count } from '../words/format'
import CaptureDetail from './CaptureDetail.vue'

const route = useRoute()
const router = useRouter()
const {
  known: captures,
  trouble,
  again,
} = useAsked(
  (signal) => asked(api.GET('/api/captures', { signal })),
  () => ['captures'],
)
const { known: connections, again: askConnections } = useAsked(
  (signal) => asked(api.GET('/api/connections', { signal })),
  () => ['connections'],
)
const brokers = computed(() => connections.value?.filter((one) => one.kind === ConnectionType.amqp) ?? [])
const chosen = computed(
  () => captures.value?.find((capture) => capture.name === route.query.capture) ?? captures.value?.[0],
)
onMounted(() => void Promise.all([again(), askConnections()]))
useEvery(3000, again)

const listening = ref(false)
const where = ref({ connection: '', exchange: '', pattern: '#' })
const refused = shallowRef<Trouble>()

async function open(kind: CaptureType) {
  refused.value = undefined
  try {
    const capture = await asked(api.POST('/api/captures', { body: { kind, minutes: null, ...where.value } }))
    listening.value = false
    await again()
    void router.replace({ query: { capture: capture.name } })
  } catch (error) {
    refused.value = troubleOf(error)
  }
}
function listenIn() {
  where.value = { connection: brokers.value[0]?.name ?? '', exchange: '', pattern: '#' }
  refused.value = undefined
  listening.value = true
}
</script>

<template>
  <div>
    <header class="mb-4 flex flex-wrap items-center gap-x-3 gap-y-2">
      <h1 class="text-xl font-semibold">Captures</h1>
      <p class="min-w-0 flex-1 basis-80 text-sm text-soft">
        Temporary addresses and taps that record whatever arrives, before there is a flow for it.
      </p>
      <button v-if="brokers.length" type="button" class="button" @click="listenIn">Tap an exchange…</button>
      <button type="button" class="button button-main" @click="open(CaptureType.http)">Open an address</button>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="again" />
    <TroubleNote v-if="refused && !listening" :trouble="refused" class="mb-4" />
    <EmptyState v-if="captures && !captures.length" title="No capture is open">
      Open an address and give it to a sender, or tap an exchange of a broker. Items are shown here at once. A capture
      closes after an hour.
    </EmptyState>
    <div v-else-if="captures" class="grid items-start gap-4 lg:grid-cols-[14rem_minmax(0,1fr)]">
      <nav class="panel overflow-hidden" aria-label="Open captures">
        <RouterLink
          v-for="capture in captures"
          :key="capture.name"
          :to="{ query: { capture: capture.name } }"
          class="block border-b border-line px-3 py-2 text-sm last:border-0 hover:bg-sunken"
          :class="capture.name === chosen?.name && 'bg-sunken'"
          :aria-current="capture.name === chosen?.name ? 'true' : undefined"
          :data-capture="capture.name"
        >
          <span class="flex items-baseline justify-between gap-2">
            <span class="truncate font-medium">{{
              capture.kind === CaptureType.http ? capture.name : capture.address
            }}</span>
            <span class="shrink-0">{{ count(capture.arrived, 'arrived', 'arrived') }}</span>
          </span>
          <span class="text-xs text-faint">open until <TimeText :at="capture.until" />, by {{ capture.by }}</span>
        </RouterLink>
      </nav>
      <CaptureDetail
        v-if="chosen"
        :key="chosen.name"
        :name="chosen.name"
        @closed="again"
        @arrived="(n) => n !== chosen?.arrived && again()"
      />
    </div>
    <ModalDialog :open="listening" title="Tap an exchange" @close="listening = false">
      <form @submit.prevent="open(CaptureType.queue)">
        <p class="text-soft">
          A temporary queue gets a copy of each message of the exchange. Other queues lose nothing. The queue is deleted
          when the capture closes.
        </p>
        <label class="mt-4 block text-sm font-medium" for="capture-broker">Broker</label>
        <select id="capture-broker" v-model="where.connection" class="field mt-1 w-full">
          <option v-for="broker in brokers" :key="broker.name" :value="broker.name">{{ broker.title }}</option>
        </select>
        <label class="mt-3 block text-sm font-medium" for="capture-exchange">Exchange</label>
        <input id="capture-exchange" v-model="where.exchange" class="field mt-1 w-full" required autocomplete="off" />
        <label class="mt-3 block text-sm font-medium" for="capture-pattern">Routing keys</label>
        <input id="capture-pattern" v-model="where.pattern" class="field mt-1 w-full" required autocomplete="off" />
        <p class="mt-1 text-xs text-faint">
          <code>*</code> stands for one word, <code>#</code> for any number of them.
        </p>
        <TroubleNote v-if="refused" :trouble="refused" class="mt-3" />
        <div class="mt-5 flex justify-end gap-2">
          <button type="button" class="button" @click="listening = false">Cancel</button>
          <button type="submit" class="button button-main">Open the tap</button>
        </div>
      </form>
    </ModalDialog>
  </div>
</template>
