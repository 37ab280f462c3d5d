<script setup lang="ts">
/**
 * Submits one document to a flow: made up, the last one received, or a file; it can be edited first. A dry run shows what will be
 * sent; sending it is a second act.
 */
import { computed, onMounted, ref, shallowRef } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { DocumentForm } from '../api/schema'
import type { DryRunView, SubmitBegin, Handed } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'
import CodeView from '../ui/CodeView.vue'
import ModalDialog from '../ui/ModalDialog.vue'
import StateBadge from '../ui/StateBadge.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import DryRunResult from './DryRunResult.vue'
import SubmitFields from './SubmitFields.vue'
import { withFreshControl } from './places'

const props = defineProps<{ flow: string; title: string }>()
defineEmits<{ close: [] }>()
const begin = shallowRef<SubmitBegin>()
const text = ref('')
const event = ref('')
/** The source of the text. */
const from = ref<'made' | 'last' | 'file'>('made')
const file = ref('')
const seed = ref(0)
const trouble = shallowRef<Trouble>()
const busy = ref(false)
const handed = shallowRef<Handed>()
/** The dry run, and the text and event that it ran with. */
const run = shallowRef<DryRunView>()
const ran = ref('')
const now = () => JSON.stringify([text.value, event.value])
const picker = ref<HTMLInputElement>()

async function make(next: number) {
  trouble.value = undefined
  try {
    const path = { flow: props.flow }
    const found = await asked(api.GET('/api/flows/{flow}/begin', { params: { path, query: { seed: next } } }))
    begin.value = found
    seed.value = next
    event.value ||= found.events[0] ?? ''
    text.value = found.made_up || withFreshControl(found.last?.text ?? '', Date.now())
    from.value = found.made_up ? 'made' : 'last'
  } catch (error) {
    trouble.value = troubleOf(error)
  }
}
// A number that was not submitted before, as far as this browser knows.
onMounted(() => make(Math.floor(Date.now() / 1000) % 1_000_000))

function useLast() {
  text.value = withFreshControl(begin.value?.last?.text ?? '', Date.now())
  from.value = 'last'
}
async function useFile(picked: File | undefined) {
  if (!picked) return
  text.value = await picked.text()
  file.value = picked.name
  from.value = 'file'
}

const body = () => ({
  body: text.value,
  bodySerializer: (body: string) => body,
  headers: { 'content-type': 'application/octet-stream' },
})
async function attempt(work: () => Promise<void>) {
  busy.value = true
  trouble.value = undefined
  handed.value = undefined
  try {
    await work()
  } catch (error) {
    trouble.value = troubleOf(error)
  } finally {
    busy.value = false
  }
}
const path = () => ({ flow: props.flow })
const dryRun = () =>
  attempt(async () => {
    const own = now()
    const params = { path: path(), query: { event: event.value } }
    run.value = await asked(api.POST('/api/flows/{flow}/dry-run', { params, ...body() }))
    ran.value = own
  })
const submit = () =>
  attempt(async () => {
    const query = { name: from.value === 'file' ? file.value : '', event: event.value }
    const params = { path: path(), query }
    handed.value = await asked(api.POST('/api/flows/{flow}/submit', { params, ...body() }))
  })
/** Exactly what the dry run has shown is submitted. */
const shownAsIs = computed(() => run.value !== undefined && ran.value === now())
const form = computed(() => begin.value?.form ?? DocumentForm.json)
const shown = computed(() =>
  [DocumentForm.json, DocumentForm.x12].includes(form.value) ? form.value : DocumentForm.bytes,
)
const tab = (is: boolean) => (is ? 'border-thread text-ink' : 'border-transparent text-soft hover:text-ink')
</script>

<template>
  <ModalDialog open :title="`Submit to ${title}`" wide @close="$emit('close')">
    <p v-if="begin" class="text-sm text-soft">
      It is received as if it had arrived from
      <span class="text-ink">{{ titleOf('connections', begin.from) }}</span> and passes the whole flow. The dry run
      shows what will be sent; then submit it for real. It is marked with your name.
    </p>
    <div v-if="begin" class="mt-3 flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line text-sm">
      <button
        v-if="begin.made_up"
        type="button"
        class="-mb-px border-b-2 px-1 py-1"
        :class="tab(from === 'made')"
        @click="make(from === 'made' ? seed + 1 : seed)"
      >
        {{ from === 'made' ? 'Another made-up one' : 'A made-up one' }}
      </button>
      <button
        v-if="begin.last"
        type="button"
        class="-mb-px border-b-2 px-1 py-1"
        :class="tab(from === 'last')"
        @click="useLast"
      >
        The last one received
      </button>
      <button type="button" class="-mb-px border-b-2 px-1 py-1" :class="tab(from === 'file')" @click="picker?.click()">
        {{ from === 'file' ? file : 'A file…' }}
      </button>
      <input
        ref="picker"
        type="file"
        class="hidden"
        aria-label="A file"
        @change="useFile(($event.target as HTMLInputElement).files?.[0])"
      />
      <span v-if="begin.events.length" class="ml-auto flex items-baseline gap-2 pb-1">
        <label for="submit-event" class="text-soft">Event</label>
        <select id="submit-event" v-model="event" class="field py-0.5">
          <option v-for="one in begin.events" :key="one" :value="one">{{ one }}</option>
        </select>
      </span>
    </div>
    <div v-if="begin" class="mt-3 grid gap-3" :class="form === DocumentForm.json && 'lg:grid-cols-2'">
      <div
        v-if="form === DocumentForm.json"
        class="panel h-[38vh] overflow-auto"
        tabindex="0"
        role="region"
        aria-label="The document as a form"
      >
        <SubmitFields v-model="text" :fields="begin.fields" />
      </div>
      <CodeView v-model="text" class="panel h-[38vh]" :form="shown" label="The document" editable />
    </div>
    <DryRunResult v-if="run && shownAsIs && !handed" :run="run" />
    <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
    <div class="mt-4 flex items-baseline gap-3">
      <p v-if="handed" role="status" class="min-w-0 grow text-sm" data-part="handed">
        <StateBadge :state="handed.verdict" />
        {{ handed.says }}
        <RouterLink :to="`/arrivals/${handed.arrival}`" class="link">Show its messages</RouterLink>
      </p>
      <span v-else class="grow" />
      <button type="button" class="button" @click="$emit('close')">Close</button>
      <button
        type="button"
        class="button"
        :class="!shownAsIs && 'button-main'"
        :disabled="busy || !text.trim()"
        @click="dryRun"
      >
        Dry run
      </button>
      <button
        type="button"
        class="button"
        :class="shownAsIs && 'button-main'"
        :disabled="busy || !shownAsIs || !!handed"
        :title="shownAsIs ? '' : 'The dry run comes first'"
        @click="submit"
      >
        Submit for real
      </button>
    </div>
  </ModalDialog>
</template>
