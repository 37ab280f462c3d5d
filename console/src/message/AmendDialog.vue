<script setup lang="ts">
/** Amends a message's document. Findings and the next request are shown while typing; it can be sent only without errors. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { DocumentForm, MessageAct, MessageState } from '../api/schema'
import type { ActPlan, DocumentView, FindingView, Message } from '../api/schema'
import { useThrottled } from '../api/useAsked'
import CodeView from '../ui/CodeView.vue'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { count } from '../words/format'
import { changedLines, type Place, placeOf } from './amending'
import PlanNote from './PlanNote.vue'

const props = defineProps<{ open: boolean; message: Message }>()
const emit = defineEmits<{ close: []; acted: [] }>()
const document = shallowRef<DocumentView>()
const text = ref('')
const why = ref('')
const findings = shallowRef<FindingView[]>([])
const plan = shallowRef<ActPlan>()
/** Where the document has the value that the failure names. */
const refused = shallowRef<Place>()
/** The text that was checked last. */
const checked = ref<string>()
const trouble = shallowRef<Trouble>()
const busy = ref(false)
const params = computed(() => ({ path: { id: props.message.id } }))

watch(
  () => props.open,
  async (open) => {
    document.value = undefined
    trouble.value = undefined
    findings.value = []
    plan.value = undefined
    checked.value = undefined
    if (!open) return
    refused.value = undefined
    try {
      const body = { act: MessageAct.amend, messages: [props.message.id] }
      const [got, named] = await Promise.all([
        asked(api.GET('/api/messages/{id}/document', { params: params.value })),
        // Without the values that the failure names, the document is amended all the same.
        asked(api.POST('/api/bulk-acts/preview', { body })).catch(() => undefined),
      ])
      const values = named?.suggested.map((one) => one.value) ?? []
      refused.value = placeOf(got.text, values)
      text.value = got.text
      document.value = got
    } catch (error) {
      trouble.value = troubleOf(error)
    }
  },
  // A key in a list opens the page with the dialog already open.
  { immediate: true },
)

const send = (preview: boolean) =>
  asked(
    api.POST('/api/messages/{id}/acts', {
      params: params.value,
      body: { act: MessageAct.amend, document: text.value, why: why.value, preview },
    }),
  )
const check = useThrottled(async () => {
  const own = text.value
  try {
    const result = await send(true)
    findings.value = result.findings
    plan.value = result.plan ?? undefined
    trouble.value = undefined
  } catch (error) {
    trouble.value = troubleOf(error)
  }
  checked.value = own
}, 300)
watch(text, () => props.open && document.value && check())
watch(document, (now) => now && check())

async function amend() {
  busy.value = true
  try {
    await send(false)
    emit('acted')
  } catch (error) {
    trouble.value = troubleOf(error)
  } finally {
    busy.value = false
  }
}
const changed = computed(() => document.value !== undefined && text.value !== document.value.text)
const lines = computed(() => changedLines(document.value?.text ?? '', text.value))
/** Who refused it: a document without faults failed at a step. */
const intro = computed(() => {
  const valid = document.value && checked.value === document.value.text && !findings.value.length
  const what = document.value?.form === DocumentForm.x12 ? 'Valid X12' : 'A valid document'
  return valid && props.message.step ? `${what}; step ${props.message.step} failed:` : ''
})
const ready = computed(
  () =>
    changed.value &&
    checked.value === text.value &&
    !findings.value.length &&
    plan.value?.next.state !== MessageState.failed,
)
const verdict = computed(() => {
  if (checked.value !== text.value) return 'checking…'
  return findings.value.length ? `${count(findings.value.length, 'fault')} found` : 'no findings'
})
</script>

<template>
  <ModalDialog :open="open" :title="`Amend ${message.key || 'this message'}`" wide @close="$emit('close')">
    <p class="text-sm text-soft">
      <span data-part="intro">{{ intro }}</span> <strong class="font-medium text-ink">{{ message.says }}</strong>.
      <template v-if="refused">Line {{ refused.line }} has the value. </template>Correct it below: it is checked like a
      received document, which stays stored unchanged.
    </p>
    <CodeView
      v-if="document"
      v-model="text"
      class="panel mt-3 h-[48vh]"
      :form="document.form"
      label="The document"
      editable
      :findings="findings"
      :chosen="refused"
      select
    >
      <template #title>
        <span role="status" :class="findings.length ? 'text-failed' : 'text-done'" data-part="verdict"
          >{{ findings.length ? '▲' : '✓' }} {{ verdict }}</span
        >
      </template>
    </CodeView>
    <ul
      v-if="findings.length"
      class="mt-2 max-h-24 overflow-auto text-sm"
      tabindex="0"
      aria-label="Findings"
      data-part="findings"
    >
      <li v-for="(finding, n) in findings" :key="n">
        <span class="text-faint">line {{ finding.line }}</span> {{ finding.says }}
        <span v-if="finding.help" class="text-soft">{{ finding.help }}</span>
      </li>
    </ul>
    <div v-if="changed" class="mt-2 max-h-28 overflow-auto font-mono text-xs" tabindex="0" data-part="changed">
      <p v-for="(line, n) in lines.before" :key="`-${n}`" class="break-all text-failed">
        <del>{{ line }}</del>
      </p>
      <p v-for="(line, n) in lines.after" :key="`+${n}`" class="break-all text-done">
        <ins>{{ line }}</ins>
      </p>
    </div>
    <PlanNote v-if="plan && changed" :plan="plan" />
    <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
    <form class="mt-4 flex flex-wrap items-end gap-3" @submit.prevent="amend">
      <div class="grow">
        <label class="block text-sm font-medium" for="amend-why">Reason (optional)</label>
        <input id="amend-why" v-model="why" class="field mt-1 w-full" autocomplete="off" />
      </div>
      <button type="button" class="button" @click="$emit('close')">Cancel</button>
      <button type="submit" class="button button-main" :disabled="busy || !ready">Amend and resend</button>
    </form>
  </ModalDialog>
</template>
