<script setup lang="ts">
/** Resends or discards all messages that stand aside for one reason: shown first, then with progress, to be stopped any time. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import type { ActResult, Reason } from '../api/schema'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { count } from '../words/format'

/** Messages of one request: small enough that progress is seen. */
const TOGETHER = 20

const props = defineProps<{ open: boolean; reason: Reason }>()
defineEmits<{ close: [] }>()
const preview = shallowRef<ActResult[]>([])
const done = ref(0)
const failed = shallowRef<ActResult[]>([])
const running = ref(false)
const finished = ref(false)
const trouble = shallowRef<Trouble>()
let stop = false

watch(
  () => props.open,
  async (open) => {
    if (!open) {
      stop = true
      return
    }
    done.value = 0
    failed.value = []
    finished.value = false
    trouble.value = undefined
    preview.value = await post({ reason: props.reason.id, preview: true }).catch((error) => {
      trouble.value = troubleOf(error)
      return []
    })
  },
)

const post = (body: { reason?: string; messages?: string[]; preview?: boolean }) =>
  asked(api.POST('/api/acts', { body: { act: 'resend', ...body } }))

async function run() {
  running.value = true
  stop = false
  trouble.value = undefined
  const ids = preview.value.map((one) => one.message.id)
  try {
    while (done.value < ids.length && !stop) {
      const some = ids.slice(done.value, done.value + TOGETHER)
      const results = await post({ messages: some })
      failed.value = [...failed.value, ...results.filter((one) => !one.done)]
      done.value += some.length
    }
    finished.value = done.value === ids.length
  } catch (error) {
    trouble.value = troubleOf(error)
  } finally {
    running.value = false
  }
}

const total = computed(() => preview.value.length)
const sample = computed(() => preview.value.slice(0, 6).map((one) => one.message.key || one.message.id))
</script>

<template>
  <ModalDialog :open="open" title="Resend all with this reason" @close="$emit('close')">
    <p class="text-soft">{{ reason.says }}</p>
    <p class="mt-3">
      <strong class="font-semibold">{{ count(total, 'message') }}</strong>
      <template v-if="total">: {{ sample.join(', ') }}<template v-if="total > sample.length"> …</template></template>
    </p>
    <p class="mt-1 text-sm text-soft">
      Each goes on at the step where it stopped, with the newest release’s connections; what was done before it is not
      done again.
    </p>
    <div v-if="running || done" class="mt-4" aria-live="polite">
      <progress class="h-2 w-full accent-thread" :value="done" :max="total" aria-label="Resent so far" />
      <p class="text-sm">
        {{ done }} of {{ total }} resent<template v-if="failed.length">, {{ failed.length }} not</template>.
      </p>
      <ul v-if="failed.length" class="mt-1 max-h-40 overflow-auto text-sm text-aside">
        <li v-for="one in failed" :key="one.message.id">{{ one.message.key || one.message.id }}: {{ one.says }}</li>
      </ul>
    </div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
    <div class="mt-5 flex justify-end gap-2">
      <button v-if="running" type="button" class="button" @click="stop = true">Stop</button>
      <button v-else type="button" class="button" @click="$emit('close')">{{ finished ? 'Close' : 'Cancel' }}</button>
      <button v-if="!finished" type="button" class="button button-main" :disabled="running || !total" @click="run">
        {{ done ? 'Go on' : `Resend ${total}` }}
      </button>
    </div>
  </ModalDialog>
</template>
