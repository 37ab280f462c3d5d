<script setup lang="ts">
/** The received document with its amendments: raw, and for X12 also readable. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, asked } from '../api/client'
import { DocumentForm } from '../api/schema'
import type { DescribedSegment, Story } from '../api/schema'
import CodeView from '../ui/CodeView.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { bytes } from '../words/format'
import SegmentList from './SegmentList.vue'
import { useWhole } from './useWhole'

const props = defineProps<{ story: Story }>()
const { document, whole, loading, trouble } = useWhole(
  () => props.story.message.id,
  () => '',
  () => props.story.document,
)
const segments = shallowRef<DescribedSegment[]>([])
let asking = false
let ended = false
/** Loads the next segments, some thousand at a time. */
async function more() {
  if (asking || ended || props.story.document.form !== DocumentForm.x12) return
  asking = true
  const params = { path: { id: props.story.message.id }, query: { skip: segments.value.length } }
  const next = await asked(api.GET('/api/messages/{id}/segments', { params })).catch(() => [])
  segments.value = [...segments.value, ...next]
  ended = next.length === 0
  asking = false
}
watch(
  () => props.story.document.text,
  () => {
    segments.value = []
    ended = false
    void more()
  },
  { immediate: true },
)
const chosen = ref<{ line: number; from: number; to: number }>()
/** Returns the element at a position of the raw text. */
function place(line: number, column: number) {
  const element = segments.value
    .find((segment) => segment.line === line)
    ?.elements.find((one) => column >= one.from && column <= one.to)
  chosen.value = element ? { line, from: element.from, to: element.to } : { line, from: 0, to: 0 }
}
const text = computed({ get: () => document.value.text, set: () => {} })
</script>

<template>
  <div>
    <p v-if="document.cut" class="flex items-center gap-3 border-b border-line px-3 py-2 text-sm text-soft">
      The start of {{ bytes(document.size) }}.
      <button type="button" class="button" :disabled="loading" @click="whole">
        {{ loading ? 'Loading…' : 'Show all of it' }}
      </button>
    </p>
    <TroubleNote v-if="trouble" :trouble="trouble" class="m-3" />
    <div class="grid" :class="segments.length > 0 && 'xl:grid-cols-2'">
      <CodeView
        v-model="text"
        :form="document.form"
        label="The received document"
        :chosen="chosen"
        class="h-[calc(100vh-14.5rem)] min-h-80"
        @place="place"
      >
        <template #title><span class="heading">As received</span></template>
      </CodeView>
      <SegmentList
        v-if="segments.length"
        v-model:chosen="chosen"
        :segments="segments"
        @end="more"
        class="border-line max-xl:border-t xl:border-l"
      />
    </div>
  </div>
</template>
