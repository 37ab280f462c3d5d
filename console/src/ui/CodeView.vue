<script setup lang="ts">
/** A document to read or edit, with line numbers, folding, search and the path at the cursor. */
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { FindingView } from '../api/schema'

const props = defineProps<{
  /** `json`, `x12` or `bytes`. */
  form: string
  label: string
  editable?: boolean
  findings?: FindingView[]
  /** The marked range: the line counts from 1, columns from 0. */
  chosen?: { line: number; from: number; to: number }
  /** The marked range is selected, so that it can be typed over. */
  select?: boolean
}>()
const emit = defineEmits<{
  /** The user chose a position: the line counts from 1, the column from 0. */
  place: [line: number, column: number]
}>()
const text = defineModel<string>({ required: true })
const parent = ref<HTMLElement>()
const path = ref('')
const copied = ref(false)
let made: ReturnType<(typeof import('./codemirror'))['view']> | undefined

onMounted(async () => {
  const { view } = await import('./codemirror')
  if (!parent.value) return
  made = view(parent.value, {
    text: text.value,
    form: props.form,
    label: props.label,
    editable: props.editable,
    onChange: (typed) => (text.value = typed),
    onPlace: (line, column, at) => {
      path.value = at
      copied.value = false
      emit('place', line, column)
    },
  })
  made.findings(props.findings ?? [])
  if (props.chosen) made.choose(props.chosen.line, props.chosen.from, props.chosen.to, props.select)
})
onBeforeUnmount(() => made?.destroy())
watch(text, (now) => made?.replace(now))
watch(
  () => props.findings,
  (now) => made?.findings(now ?? []),
)
watch(
  () => props.chosen,
  (now) => made?.choose(now?.line, now?.from, now?.to, props.select),
)

async function copy(what: string) {
  await navigator.clipboard.writeText(what)
  copied.value = true
}
</script>

<template>
  <div class="flex min-h-0 flex-col">
    <div class="flex min-h-8 items-center gap-2 border-b border-line px-2 py-1 text-xs">
      <slot name="title" />
      <button
        v-if="path"
        type="button"
        class="button button-plain truncate px-1.5! py-0.5! font-mono text-xs!"
        @click="copy(path)"
      >
        {{ path }} <span class="font-sans text-thread">{{ copied ? 'copied' : 'copy path' }}</span>
      </button>
      <button
        type="button"
        class="button button-plain ml-auto px-1.5! py-0.5! text-xs! whitespace-nowrap"
        @click="made?.find()"
      >
        Find
      </button>
      <button type="button" class="button button-plain px-1.5! py-0.5! text-xs! whitespace-nowrap" @click="copy(text)">
        Copy all
      </button>
    </div>
    <div ref="parent" class="min-h-0 grow overflow-auto" />
  </div>
</template>
