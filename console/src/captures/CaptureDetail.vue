<script setup lang="ts">
/** One capture: its address, its items, and the selected item. */
import { CaptureType } from '../api/schema'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { useAsked } from '../api/useAsked'
import { flattened } from '../arrivals/flattened'
import CodeView from '../ui/CodeView.vue'
import CopyButton from '../ui/CopyButton.vue'
import ModalDialog from '../ui/ModalDialog.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useEvery } from '../ui/useEvery'
import { bytes, count } from '../words/format'
import FlowDialog from './FlowDialog.vue'

const props = defineProps<{ name: string }>()
const emit = defineEmits<{ closed: []; arrived: [number] }>()
const params = { path: { name: props.name } }
const { known: story, trouble, again } = useAsked(() => asked(api.GET('/api/captures/{name}', { params })))
onMounted(again)
const closing = ref(false)
useEvery(1000, () => closing.value || again())

/** The shown item: the newest, until one is chosen. */
const picked = ref<number>()
const shown = computed(() => story.value?.caught.find((one) => one.n === picked.value) ?? story.value?.caught[0])
const properties = computed(() => flattened(shown.value?.headers ?? {}))
const refused = shallowRef<Trouble>()
const asking = ref(false)
const making = ref(false)

async function close() {
  closing.value = true
  try {
    await asked(api.DELETE('/api/captures/{name}', { params }))
    emit('closed')
  } catch (error) {
    refused.value = troubleOf(error)
    closing.value = false
    asking.value = false
  }
}
// The list beside it counts no later than this page shows.
watch(
  () => story.value?.capture.arrived,
  (now) => now !== undefined && emit('arrived', now),
)
</script>

<template>
  <div class="min-w-0 space-y-4">
    <TroubleNote v-if="trouble ?? refused" :trouble="(trouble ?? refused)!" @again="again" />
    <template v-if="story">
      <section class="panel px-4 py-3 text-sm">
        <div class="flex flex-wrap items-center gap-x-3 gap-y-1">
          <code class="break-all" data-part="address">{{ story.capture.address }}</code>
          <CopyButton v-if="story.capture.kind === CaptureType.http" :text="story.capture.address" what="address" />
          <button type="button" class="button ml-auto" @click="asking = true">Close the capture…</button>
        </div>
        <p v-if="story.capture.says" class="mt-1 font-medium text-failed">
          ▲ Nothing more arrives here: {{ story.capture.says }}
        </p>
        <p v-else-if="story.capture.kind === CaptureType.http" class="mt-1 text-soft">
          Every call to this address is recorded and answered 200<template v-if="story.capture.local_only"
            >; only this machine can reach it</template
          >. “Make a flow of this” makes it a real intake at the same address; the sender changes nothing.
        </p>
        <p v-else class="mt-1 text-soft">Copies of the messages of the exchange, as its queues get them.</p>
      </section>
      <p v-if="!story.caught.length" class="panel px-4 py-8 text-center text-soft" role="status">
        Nothing has arrived yet. New items are shown here at once.
      </p>
      <div
        v-else
        class="grid items-start gap-4 xl:grid-cols-[minmax(0,19rem)_minmax(0,1fr)] 2xl:grid-cols-[minmax(0,26rem)_minmax(0,1fr)]"
      >
        <ol
          class="panel max-h-[calc(100vh-16rem)] min-h-40 overflow-auto text-sm"
          tabindex="0"
          aria-label="Recorded items"
        >
          <li v-for="one in story.caught" :key="one.n">
            <button
              type="button"
              class="block w-full border-b border-line px-3 py-1.5 text-left hover:bg-sunken"
              :class="one.n === shown?.n && 'bg-sunken'"
              :aria-pressed="one.n === shown?.n"
              :data-caught="one.n"
              @click="picked = one.n"
            >
              <span class="flex gap-2">
                <span class="min-w-0 grow truncate" :class="one.event && 'font-medium'" data-part="event"
                  ><template v-if="one.event">{{ one.event }}</template
                  ><code v-else>{{ one.line }}</code></span
                >
                <span class="shrink-0 text-faint"><TimeText :at="one.at" /></span>
              </span>
              <span class="block truncate text-xs" :class="one.fault ? 'text-failed' : 'text-soft'">
                <template v-if="one.fault">▲ cannot be read: {{ one.fault }}</template>
                <template v-else-if="one.size"
                  ><template v-if="one.event">{{ one.line }}, </template>{{ one.form }}, {{ bytes(one.size) }}</template
                >
                <template v-else>without a body</template>
              </span>
            </button>
          </li>
        </ol>
        <div v-if="shown" class="min-w-0 space-y-4">
          <p class="flex flex-wrap items-center gap-x-3 gap-y-1 text-sm">
            <span class="min-w-0 truncate font-medium">{{ shown.event || shown.line }}</span>
            <button type="button" class="button ml-auto" :disabled="!shown.size" @click="making = true">
              Make a flow of this…
            </button>
          </p>
          <dl
            v-if="properties.length"
            class="panel max-h-56 overflow-auto px-4 py-3 text-sm"
            tabindex="0"
            aria-label="Headers and properties"
          >
            <div v-for="[header, value] in properties" :key="header" class="flex gap-3">
              <dt class="w-40 shrink-0 truncate text-faint" :title="header">{{ header }}</dt>
              <dd class="min-w-0 break-words">{{ value }}</dd>
            </div>
          </dl>
          <CodeView
            :key="shown.n"
            :model-value="shown.text"
            :form="shown.form"
            label="The body, formatted"
            class="panel h-[calc(100vh-24rem)] min-h-64 overflow-hidden"
          >
            <template #title>
              <span class="heading">Body</span>
              <a :href="`/api/captures/${name}/${shown.n}/bytes`" :download="`${name}-${shown.n}`" class="link"
                >download</a
              >
            </template>
          </CodeView>
        </div>
      </div>
      <FlowDialog v-if="making && shown" :capture="name" :n="shown.n" :event="shown.event" @close="making = false" />
      <ModalDialog :open="asking" title="Close the capture" @close="asking = false">
        <p class="text-soft">
          {{ story.capture.address }} stops recording, and its
          {{ count(story.caught.length, 'stored item is', 'stored items are') }} deleted.
          <template v-if="story.capture.kind === CaptureType.http">Later calls are answered 404.</template>
        </p>
        <div class="mt-5 flex justify-end gap-2">
          <button type="button" class="button" @click="asking = false">Cancel</button>
          <button type="button" class="button button-grave" :disabled="closing" @click="close">Close it</button>
        </div>
      </ModalDialog>
    </template>
  </div>
</template>
