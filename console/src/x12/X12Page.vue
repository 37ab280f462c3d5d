<script setup lang="ts">
/** An X12 document, pasted, dropped or from an arrival: raw and readable side by side, with findings at their positions. */
import { computed, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { AcknowledgmentSet } from '../api/schema'
import type { EdiLook } from '../api/schema'
import { titleOf, useWorkspace } from '../shell/useWorkspace'
import TroubleNote from '../ui/TroubleNote.vue'
import SegmentList from '../message/SegmentList.vue'
import RawLines from './RawLines.vue'
import SetSummary from './SetSummary.vue'
import { verdictOf } from './findings'

const route = useRoute()
const router = useRouter()
const workspace = useWorkspace()
const document = ref('')
const name = ref('')
const partner = ref('')
const look = shallowRef<EdiLook>()
const trouble = shallowRef<Trouble>()
const dropping = ref(false)
const at = ref(0)
const named = ref(false)
const chosen = ref<{ line: number; from: number; to: number }>()
const arrival = computed(() => String(route.query.arrival ?? ''))
const set = computed(() => look.value?.sets[at.value] ?? look.value?.sets[0])
/** Returns the set of the chosen line, for the readable half. */
watch(chosen, (now) => {
  const within = look.value?.sets.findIndex((one) => now && one.first <= now.line && now.line <= one.last) ?? -1
  if (within >= 0) at.value = within
})
/** In the readable half, lines count from the first segment of the set. */
const inSet = computed({
  get: () => chosen.value && { ...chosen.value, line: chosen.value.line - (set.value?.first ?? 1) + 1 },
  set: (now) => (chosen.value = now && { ...now, line: now.line + (set.value?.first ?? 1) - 1 }),
})
const segments = computed(() =>
  (set.value?.segments ?? []).map((one) => ({ ...one, line: one.line - (set.value?.first ?? 1) + 1 })),
)

async function read() {
  trouble.value = undefined
  if (!document.value.trim() && !arrival.value) {
    look.value = undefined
    return
  }
  try {
    const body = { document: document.value, arrival: arrival.value, partner: partner.value }
    look.value = await asked(api.POST('/api/edi', { body }))
    chosen.value = undefined
    at.value = Math.min(at.value, Math.max(0, look.value.sets.length - 1))
  } catch (error) {
    trouble.value = troubleOf(error)
    look.value = undefined
  }
}
watch([arrival, partner], () => void read(), { immediate: true })

async function take(files: FileList | null | undefined) {
  const file = files?.[0]
  if (!file) return
  name.value = file.name
  document.value = await file.text()
  at.value = 0
  if (arrival.value) await router.replace('/x12')
  void read()
}
function drop(event: DragEvent) {
  dropping.value = false
  void take(event.dataTransfer?.files)
}
const toAcknowledgment = () => window.document.getElementById('acknowledgment')?.scrollIntoView({ block: 'center' })
function another() {
  document.value = ''
  name.value = ''
  at.value = 0
  look.value = undefined
  void router.replace('/x12')
}
</script>

<template>
  <div @dragover.prevent="dropping = true" @dragleave.self="dropping = false" @drop.prevent="drop">
    <header class="mb-4 flex flex-wrap items-center gap-3">
      <div class="min-w-0 grow">
        <h1 class="text-xl font-semibold">X12 documents</h1>
        <p class="text-sm text-soft">
          <template v-if="look"
            >{{ name || (arrival ? `Arrival ${arrival}` : 'Pasted text')
            }}<template v-if="look.partner"
              >, with the rules of {{ titleOf('partners', look.partner) }}</template
            ></template
          >
          <template v-else>Read and check an X12 document. Nothing is stored or sent.</template>
        </p>
      </div>
      <template v-if="look">
        <label v-if="workspace?.partners.length" class="flex items-center gap-2 text-sm">
          <span class="text-faint">Rules of</span>
          <select v-model="partner" class="field">
            <option value="">the partner named in it</option>
            <option v-for="one in workspace.partners" :key="one.name" :value="one.name">{{ one.title }}</option>
          </select>
        </label>
        <button type="button" class="button" @click="another">Open another</button>
      </template>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="read" />

    <section
      v-if="!look && !(arrival && !trouble)"
      class="panel p-4"
      :class="dropping && 'schema-2 schema-thread'"
      aria-label="X12 document"
    >
      <label for="edi" class="mb-2 block font-medium">Paste a document, or drop a file anywhere on this page</label>
      <textarea
        id="edi"
        v-model="document"
        class="field min-h-80 w-full font-mono text-sm"
        spellcheck="false"
        placeholder="ISA*00*          *00*          *ZZ*…"
        @paste="name = ''"
        @keydown.ctrl.enter.prevent="read"
      ></textarea>
      <div class="mt-3 flex flex-wrap items-center gap-3">
        <button type="button" class="button button-main" :disabled="!document.trim()" @click="read">Open it</button>
        <label class="button cursor-pointer focus-within:outline-2">
          Choose a file…
          <input type="file" class="sr-only" @change="take(($event.target as HTMLInputElement).files)" />
        </label>
        <span class="text-sm text-faint">Or press Ctrl+Enter.</span>
      </div>
    </section>

    <template v-if="look">
      <div
        class="mb-4 rounded-md border px-3 py-2"
        :class="look.valid ? 'border-line bg-raised' : 'border-failed/50 bg-failed/5'"
        data-part="verdict"
        role="status"
      >
        <p class="font-medium">
          <span :class="look.valid ? 'text-done' : 'text-failed'" aria-hidden="true">{{ look.valid ? '✓' : '✕' }}</span>
          {{ verdictOf(look) }}
        </p>
        <p v-for="says in look.lines.length ? look.says : []" :key="says" class="text-sm text-soft">{{ says }}</p>
        <p v-if="look.acknowledgments.length" class="text-sm">
          <a href="#acknowledgment" class="link" @click.prevent="toAcknowledgment"
            >See the {{ look.acknowledgments[0]!.set }} that we would send</a
          >
        </p>
        <p v-if="look.cut" class="text-sm text-soft">
          Only the first {{ look.lines.length }} segments are shown. <code>wirewatch edi check</code> lists the rest.
        </p>
      </div>
      <div v-if="look.lines.length" class="grid items-start gap-4 lg:grid-cols-2">
        <RawLines v-model="chosen" :lines="look.lines" />
        <section class="panel min-w-0 overflow-hidden" aria-label="Readable form">
          <div class="flex flex-wrap items-center gap-2 border-b border-line px-3 py-1.5">
            <label v-if="look.sets.length > 1" class="flex items-center gap-2 text-sm">
              <span class="text-faint">Set</span>
              <select v-model="at" class="field py-0.5">
                <option v-for="(one, n) in look.sets" :key="n" :value="n">
                  {{ one.set }} {{ one.control }} {{ one.ack === 'R' ? '(rejected)' : '' }}
                </option>
              </select>
            </label>
            <label class="ml-auto flex items-center gap-1.5 text-sm">
              <input v-model="named" type="checkbox" /> Every element with its name
            </label>
          </div>
          <template v-if="set">
            <SegmentList v-if="named && segments.length" v-model:chosen="inSet" :segments="segments" />
            <SetSummary v-else :set="set" />
          </template>
          <p v-else class="p-4 text-soft">It has no transaction set.</p>
        </section>
      </div>
      <section
        v-for="(one, n) in look.acknowledgments"
        :id="n ? undefined : 'acknowledgment'"
        :key="one.set + one.answers"
        class="panel mt-4 grid gap-x-6 gap-y-2 p-3 lg:grid-cols-2"
        data-part="acknowledgment"
      >
        <div>
          <h2 class="font-semibold">
            The {{ one.set }} that we would send for {{ one.set === AcknowledgmentSet.TA1 ? 'interchange' : 'group' }}
            {{ one.answers }}
          </h2>
          <ul class="mt-1 list-disc space-y-1 pl-5 text-sm">
            <li v-for="says in one.says" :key="says">{{ says }}</li>
          </ul>
          <p class="mt-1 text-xs text-faint">The service numbers what it sends; these control numbers are made up.</p>
        </div>
        <pre class="overflow-x-auto rounded bg-sunken p-3 font-mono text-xs" tabindex="0">{{ one.text }}</pre>
      </section>
    </template>
  </div>
</template>
