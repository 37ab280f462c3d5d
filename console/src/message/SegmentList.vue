<script setup lang="ts">
/** An X12 document with the name of every element. Choosing an element here marks it in the raw text, and the other way round. */
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, ref, watch } from 'vue'
import type { DescribedElement, DescribedSegment } from '../api/schema'

const HEAD = 38
const ELEMENT = 20

const props = defineProps<{ segments: DescribedSegment[] }>()
const emit = defineEmits<{ /** The last segment has come into sight. */ end: [] }>()
const chosen = defineModel<{ line: number; from: number; to: number }>('chosen')
const scroller = ref<HTMLElement>()
const virtual = useVirtualizer(
  computed(() => ({
    count: props.segments.length,
    getScrollElement: () => scroller.value ?? null,
    estimateSize: (index: number) => HEAD + ELEMENT * (props.segments[index]?.elements.length ?? 0),
    overscan: 8,
  })),
)
const shown = computed(() =>
  virtual.value.getVirtualItems().flatMap((item) => {
    const segment = props.segments[item.index]
    return segment ? [{ item, segment }] : []
  }),
)
watch(shown, (now) => {
  if ((now.at(-1)?.item.index ?? 0) >= props.segments.length - 10) emit('end')
})
watch(chosen, (now) => {
  if (now && now.line <= props.segments.length) virtual.value.scrollToIndex(now.line - 1, { align: 'auto' })
})

const isChosen = (segment: DescribedSegment, element?: DescribedElement) =>
  chosen.value?.line === segment.line && (!element || chosen.value.from === element.from)
const choose = (segment: DescribedSegment, { from, to }: DescribedElement) =>
  (chosen.value = { line: segment.line, from, to })
const measure = (element: unknown) => virtual.value.measureElement(element as Element | null)
</script>

<template>
  <div class="flex min-h-0 flex-col">
    <p class="flex min-h-8 items-center border-b border-line px-3 py-1"><span class="heading">Readable</span></p>
    <div
      ref="scroller"
      class="h-[calc(100vh-16.5rem)] min-h-72 overflow-auto text-sm"
      tabindex="0"
      role="region"
      aria-label="Segments"
    >
      <ol class="relative" :style="{ height: `${virtual.getTotalSize()}px` }">
        <li
          v-for="{ item, segment } in shown"
          :key="segment.line"
          :ref="measure"
          :data-index="item.index"
          :data-line="segment.line"
          class="absolute inset-x-0 top-0 border-b border-line/50 px-3 py-1.5"
          :class="isChosen(segment) && 'bg-sunken'"
          :style="{ paddingLeft: `${0.75 + segment.depth * 1.25}rem`, transform: `translateY(${item.start}px)` }"
        >
          <p class="flex items-baseline gap-2">
            <code class="w-8 shrink-0 font-mono text-xs font-semibold text-thread">{{ segment.id }}</code>
            <span class="font-medium">{{ segment.name }}</span>
          </p>
          <ul class="ml-10">
            <li v-for="element in segment.elements" :key="element.at">
              <button
                type="button"
                class="grid w-full grid-cols-[3.5rem_minmax(6rem,13rem)_1fr] items-baseline gap-2 rounded-sm text-left hover:bg-thread/10"
                :class="isChosen(segment, element) && 'bg-thread/15'"
                :aria-pressed="isChosen(segment, element)"
                :data-element="element.at"
                @click="choose(segment, element)"
              >
                <code class="font-mono text-2xs text-faint">{{ element.at }}</code>
                <span class="truncate text-xs text-soft" :title="element.name">{{ element.name }}</span>
                <span class="min-w-0 break-words">
                  {{ element.value }} <span v-if="element.meaning" class="text-soft">— {{ element.meaning }}</span>
                </span>
              </button>
            </li>
          </ul>
        </li>
      </ol>
    </div>
  </div>
</template>
