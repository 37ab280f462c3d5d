<script setup lang="ts">
/** Resends or amends all messages with one reason: first a preview, then the service does it in the background. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { BulkState, MessageAct } from '../api/schema'
import type { BulkAct, BulkPreview, Reason } from '../api/schema'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useEvery } from '../ui/useEvery'
import { useThrottled } from '../api/useAsked'
import { count } from '../words/format'
import CorrectionFields from './CorrectionFields.vue'

const props = defineProps<{ /** The act of the dialog; none while it is closed. */ act?: MessageAct; reason: Reason }>()
defineEmits<{ close: [] }>()
const preview = shallowRef<BulkPreview>()
const bulk = shallowRef<BulkAct>()
const replace = ref('')
const put = ref('')
const field = ref('')
const why = ref('')
const starting = ref(false)
const trouble = shallowRef<Trouble>()
const amends = computed(() => props.act === MessageAct.amend)
/** The correction, once it can be tried: an empty value is more likely one that is not typed yet. */
const correction = computed(() =>
  amends.value && replace.value && put.value && replace.value !== put.value
    ? { replace: replace.value, with: put.value, field: field.value.trim() || null }
    : null,
)
const body = computed(() => ({
  reason: props.reason.id,
  act: props.act ?? MessageAct.resend,
  correction: correction.value,
  why: why.value,
}))

/** Sends a request. An error is shown until the next success. */
async function attempt(work: () => Promise<void>) {
  try {
    await work()
    trouble.value = undefined
  } catch (error) {
    trouble.value = troubleOf(error)
  }
}

const shown = () => props.act !== undefined
const look = () =>
  attempt(async () => {
    const own = JSON.stringify(correction.value)
    preview.value = await asked(api.POST('/api/bulk-acts/preview', { body: body.value }))
    tried.value = own
  })
watch(
  () => props.act,
  async (act) => {
    if (!act) return
    preview.value = undefined
    bulk.value = undefined
    replace.value = put.value = field.value = why.value = ''
    await attempt(async () => {
      // Another person may have started it, or the same one before the dialog was closed.
      const all = await asked(api.GET('/api/bulk-acts'))
      bulk.value = all.find((one) => one.reason === props.reason.id && one.state === BulkState.running)
    })
    if (bulk.value || trouble.value) return
    await look()
    // What the failure names is most likely what is wrong.
    const first = (preview.value as BulkPreview | undefined)?.suggested[0]
    if (first && amends.value) [replace.value, field.value] = [first.value, first.field]
  },
)
/** The correction of the preview, as JSON. */
const tried = ref('')
const soon = useThrottled(() => shown() && !bulk.value && void look(), 300)
watch(correction, (now) => now && soon())
const checked = computed(() => tried.value === JSON.stringify(correction.value))
const ready = computed(() => {
  if (!preview.value?.total || starting.value) return false
  return !amends.value || (!!correction.value && checked.value && preview.value.corrected.some((one) => !one.says))
})

async function start() {
  starting.value = true
  await attempt(async () => {
    bulk.value = await asked(api.POST('/api/bulk-acts', { body: body.value }))
  })
  starting.value = false
}

const path = () => ({ path: { id: bulk.value?.id ?? '' } })
const follow = () =>
  attempt(async () => {
    bulk.value = await asked(api.GET('/api/bulk-acts/{id}', { params: path() }))
  })
const stop = () =>
  attempt(async () => {
    bulk.value = await asked(api.POST('/api/bulk-acts/{id}/stop', { params: path() }))
  })
// Also after its end, because the messages are running then.
useEvery(500, () => shown() && bulk.value && follow())

const running = computed(() => bulk.value?.state === BulkState.running)
const past = computed(() => (bulk.value?.act === MessageAct.amend ? 'amended' : 'resent'))
const verb = computed(() => (amends.value ? 'Amend' : 'Resend'))
const sample = computed(() => preview.value?.messages.slice(0, 6).map((one) => one.key || one.id) ?? [])
const states = computed(() => Object.entries(bulk.value?.states ?? {}).map(([state, n]) => `${n} ${state}`))
</script>

<template>
  <ModalDialog :open="act !== undefined" :title="`${verb} all with this reason`" :wide="amends" @close="$emit('close')">
    <p class="text-soft">{{ reason.says }}</p>
    <template v-if="preview && !bulk">
      <p class="mt-3">
        <strong class="font-semibold">{{ count(preview.total, 'message') }}</strong>: {{ sample.join(', ')
        }}<template v-if="preview.total > sample.length"> …</template>
      </p>
      <p class="mt-1 text-sm text-soft">
        <template v-if="amends">One value is replaced in each document; everything else of it stays. </template>
        One is tried first. If it fails again, the others stay as they are. Completed steps are skipped unless their
        request has changed. The service does it in the background; you can close this page.
      </p>
      <template v-if="amends">
        <CorrectionFields
          v-model:replace="replace"
          v-model:with="put"
          v-model:field="field"
          :preview="preview"
          :checking="!checked"
        />
        <label class="mt-3 block text-sm font-medium" for="bulk-why">Reason (optional)</label>
        <input id="bulk-why" v-model="why" class="field mt-1 w-full" autocomplete="off" />
      </template>
    </template>
    <div v-if="bulk" class="mt-4" aria-live="polite" data-part="bulk">
      <progress
        class="h-2 w-full accent-thread"
        :value="bulk.done + bulk.refused"
        :max="bulk.total"
        :aria-label="`Messages ${past} so far`"
      />
      <p class="text-sm">
        {{ bulk.done }} of {{ bulk.total }} {{ past
        }}<template v-if="bulk.refused">, {{ bulk.refused }} not {{ past }}</template
        ><template v-if="bulk.state === BulkState.stopped">, then stopped</template>.
        <span class="text-soft">Started by {{ bulk.by }}.</span>
      </p>
      <p v-if="states.length" class="text-sm text-soft">Of these now: {{ states.join(', ') }}.</p>
      <ul v-if="bulk.refusals.length" class="mt-1 max-h-40 overflow-auto text-sm text-failed">
        <li v-for="one in bulk.refusals" :key="one.message">{{ one.key || one.message }}: {{ one.says }}</li>
      </ul>
    </div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
    <div class="mt-5 flex justify-end gap-2">
      <button v-if="running" type="button" class="button" @click="stop">Stop</button>
      <button type="button" class="button" @click="$emit('close')">{{ bulk ? 'Close' : 'Cancel' }}</button>
      <button v-if="!bulk" type="button" class="button button-main" :disabled="!ready" @click="start">
        {{ verb }} {{ preview?.total ?? '' }}
      </button>
    </div>
  </ModalDialog>
</template>
