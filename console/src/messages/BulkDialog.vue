<script setup lang="ts">
/** Resends all messages with one reason: first a preview, then the service does it in the background. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { BulkActKind, BulkState } from '../api/schema'
import type { BulkAct, BulkPreview, Reason } from '../api/schema'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useEvery } from '../ui/useEvery'
import { count } from '../words/format'

const props = defineProps<{ open: boolean; reason: Reason }>()
defineEmits<{ close: [] }>()
const preview = shallowRef<BulkPreview>()
const act = shallowRef<BulkAct>()
const starting = ref(false)
const trouble = shallowRef<Trouble>()
const body = computed(() => ({ reason: props.reason.id, act: BulkActKind.resend }))

/** Sends a request. An error is shown until the next success. */
async function attempt(work: () => Promise<void>) {
  try {
    await work()
    trouble.value = undefined
  } catch (error) {
    trouble.value = troubleOf(error)
  }
}

watch(
  () => props.open,
  async (open) => {
    if (!open) return
    preview.value = undefined
    act.value = undefined
    await attempt(async () => {
      // Another person may have started it, or the same one before the dialog was closed.
      const all = await asked(api.GET('/api/bulk-acts'))
      act.value = all.find((one) => one.reason === props.reason.id && one.state === BulkState.running)
      if (!act.value) preview.value = await asked(api.POST('/api/bulk-acts/preview', { body: body.value }))
    })
  },
)

async function start() {
  starting.value = true
  await attempt(async () => {
    act.value = await asked(api.POST('/api/bulk-acts', { body: body.value }))
  })
  starting.value = false
}

const path = () => ({ path: { id: act.value?.id ?? '' } })
const follow = () =>
  attempt(async () => {
    act.value = await asked(api.GET('/api/bulk-acts/{id}', { params: path() }))
  })
const stop = () =>
  attempt(async () => {
    act.value = await asked(api.POST('/api/bulk-acts/{id}/stop', { params: path() }))
  })
// Also after its end, because the messages are running then.
useEvery(500, () => props.open && act.value && follow())

const running = computed(() => act.value?.state === BulkState.running)
const sample = computed(() => preview.value?.messages.slice(0, 6).map((one) => one.key || one.id) ?? [])
const states = computed(() => Object.entries(act.value?.states ?? {}).map(([state, n]) => `${n} ${state}`))
</script>

<template>
  <ModalDialog :open="open" title="Resend all with this reason" @close="$emit('close')">
    <p class="text-soft">{{ reason.says }}</p>
    <template v-if="preview && !act">
      <p class="mt-3">
        <strong class="font-semibold">{{ count(preview.total, 'message') }}</strong>: {{ sample.join(', ')
        }}<template v-if="preview.total > sample.length"> …</template>
      </p>
      <p class="mt-1 text-sm text-soft">
        One is tried first. If it fails again for the same reason, the others stay as they are. Completed steps are
        skipped unless their request has changed. The service does it in the background; you can close this page.
      </p>
    </template>
    <div v-if="act" class="mt-4" aria-live="polite" data-part="bulk">
      <progress
        class="h-2 w-full accent-thread"
        :value="act.done + act.refused"
        :max="act.total"
        aria-label="Messages resent so far"
      />
      <p class="text-sm">
        {{ act.done }} of {{ act.total }} resent<template v-if="act.refused">, {{ act.refused }} not resent</template
        ><template v-if="act.state === BulkState.stopped">, then stopped</template>.
        <span class="text-soft">Started by {{ act.by }}.</span>
      </p>
      <p v-if="states.length" class="text-sm text-soft">Of these now: {{ states.join(', ') }}.</p>
      <ul v-if="act.refusals.length" class="mt-1 max-h-40 overflow-auto text-sm text-failed">
        <li v-for="one in act.refusals" :key="one.message">{{ one.key || one.message }}: {{ one.says }}</li>
      </ul>
    </div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
    <div class="mt-5 flex justify-end gap-2">
      <button v-if="running" type="button" class="button" @click="stop">Stop</button>
      <button type="button" class="button" @click="$emit('close')">{{ act ? 'Close' : 'Cancel' }}</button>
      <button
        v-if="!act"
        type="button"
        class="button button-main"
        :disabled="starting || !preview?.total"
        @click="start"
      >
        Resend {{ preview?.total ?? '' }}
      </button>
    </div>
  </ModalDialog>
</template>
