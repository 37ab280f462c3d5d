<script setup lang="ts">
/** The segments of a document, one a line, with findings below their positions. */
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, ref, watch } from 'vue'
import { EdiWeight } from '../api/schema'
import type { EdiLine } from '../api/schema'
import { count } from '../words/format'
import { spans, titleOf, weightWords } from './findings'

const props = defineProps<{ lines: EdiLine[] }>()
/** The element marked in both halves. */
const chosen = defineModel<{ line: number; from: number; to: number }>()
const scroller = ref<HTMLElement>()
const virtual = useVirtualizer(
  computed(() => ({
    count: props.lines.length,
    getScrollElement: () => scroller.value ?? null,
    estimateSize: (index: number) => 24 + 36 * (props.lines[index]?.findings.length ?? 0),
    overscan: 20,
  })),
)
const shown = computed(() =>
  virtual.value.getVirtualItems().flatMap((item) => {
    const line = props.lines[item.index]
    return line ? [{ item, line }] : []
  }),
)
/** Lines with findings, to step through. */
const faulty = computed(() => props.lines.flatMap((line, n) => (line.findings.length ? [n] : [])))
const errors = computed(() =>
  props.lines.reduce((sum, line) => sum + line.findings.filter((one) => one.weight === EdiWeight.error).length, 0),
)
const step = ref(-1)
watch(
  () => props.lines,
  () => (step.value = -1),
)
function go(by: number) {
  const all = faulty.value.length
  step.value = step.value < 0 && by < 0 ? all - 1 : (step.value + by + all) % all
  const line = faulty.value[step.value]
  if (line !== undefined) virtual.value.scrollToIndex(line, { align: 'center' })
}
watch(chosen, (now) => {
  if (now) virtual.value.scrollToIndex(now.line - 1, { align: 'auto' })
})
/** Returns the element at a column. */
function choose(line: EdiLine, column: number) {
  const separator = /^[A-Z0-9]{2,3}(.)/.exec(line.text)?.[1] ?? '*'
  let from = 0
  for (const part of line.text.replace(/.$/, '').split(separator)) {
    const to = from + [...part].length
    if (column <= to) {
      if (from > 0) chosen.value = { line: line.number, from, to }
      return
    }
    from = to + 1
  }
}
function clicked(line: EdiLine, start: number) {
  const selection = window.getSelection()
  // Selecting text to copy it does not choose an element.
  if (selection && !selection.isCollapsed) return
  choose(line, start + (selection?.anchorOffset ?? 0))
}
const starts = (parts: { text: string }[]) => {
  let at = 0
  return parts.map((part) => {
    const start = at
    at += [...part.text].length
    return start
  })
}
const laidOut = (line: EdiLine) => {
  const parts = spans(line, chosen.value?.line === line.number ? chosen.value : undefined)
  const at = starts(parts)
  return parts.map((part, n) => ({ ...part, start: at[n] ?? 0 }))
}
const measure = (element: unknown) => virtual.value.measureElement(element as Element | null)
</script>

<template>
  <section class="panel min-w-0 overflow-hidden" aria-label="Raw">
    <div class="flex min-h-10 flex-wrap items-center gap-2 border-b border-line px-3 py-1.5 text-sm">
      <span class="heading">Raw</span>
      <span v-if="errors" class="text-failed">{{ count(errors, 'error') }}</span>
      <span v-if="faulty.length" class="ml-auto flex gap-1">
        <button type="button" class="button px-2 py-0.5" @click="go(-1)">Previous</button>
        <button type="button" class="button px-2 py-0.5" @click="go(1)">Next</button>
      </span>
    </div>
    <div
      ref="scroller"
      class="h-[calc(100vh-16.5rem)] min-h-72 overflow-auto text-sm"
      tabindex="0"
      role="region"
      aria-label="Lines"
    >
      <ol class="relative" :style="{ height: `${virtual.getTotalSize()}px` }">
        <li
          v-for="{ item, line } in shown"
          :key="line.number"
          :ref="measure"
          :data-index="item.index"
          :data-line="line.number"
          class="absolute inset-x-0 top-0 flex"
          :class="faulty[step] === item.index && 'bg-sunken'"
          :style="{ transform: `translateY(${item.start}px)` }"
        >
          <span class="w-12 shrink-0 pt-0.5 pr-2 text-right font-mono text-2xs text-faint select-none">{{
            line.number
          }}</span>
          <div class="min-w-0 grow pr-3 pb-0.5">
            <code class="block cursor-text font-mono break-all whitespace-pre-wrap"
              ><span
                v-for="part in laidOut(line)"
                :key="part.start"
                :class="[part.weight && 'finding', part.chosen && 'bg-thread/20']"
                :data-weight="part.weight || undefined"
                @click="clicked(line, part.start)"
                >{{ part.text }}</span
              ></code
            >
            <ul v-if="line.findings.length" class="mb-1 space-y-0.5">
              <li
                v-for="(one, n) in line.findings"
                :key="n"
                class="border-l-2 pl-2 text-xs"
                :class="one.weight === EdiWeight.error ? 'border-failed' : 'border-line-strong'"
                :data-finding="one.weight"
              >
                <span class="font-medium" :class="one.weight === EdiWeight.error && 'text-failed'">{{
                  weightWords[one.weight]
                }}</span>
                {{ one.says }} <span class="text-faint">({{ titleOf(one) }})</span>
              </li>
            </ul>
          </div>
        </li>
      </ol>
    </div>
  </section>
</template>

<style scoped>
.finding {
  text-decoration: underline wavy;
  text-decoration-color: var(--color-failed);
  text-underline-offset: 3px;
}
.finding[data-weight='note'],
.finding[data-weight='tolerated'] {
  text-decoration-color: var(--color-line-strong);
}
</style>
