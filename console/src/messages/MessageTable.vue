<script setup lang="ts">
/** A table of messages that draws only visible rows. */
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { MessageAct } from '../api/schema'
import type { Message } from '../api/schema'
import type { Column, ColumnKey, Sort } from './columns'
import MessageCells from './MessageCells.vue'

const props = defineProps<{
  rows: Message[]
  columns: Column[]
  busy?: boolean
  /** The reason is the point of the list. */
  failures?: boolean
  sort: Sort
  /** All rows of the list are loaded, so that they can be sorted by any column. */
  whole?: boolean
}>()
const emit = defineEmits<{ /** The last row has come into sight. */ end: []; sort: [key: ColumnKey] }>()
const router = useRouter()
const height = computed(() => (props.failures ? 54 : 38))
const scroller = ref<HTMLElement>()
const virtual = useVirtualizer(
  computed(() => ({
    count: props.rows.length,
    getScrollElement: () => scroller.value ?? null,
    estimateSize: () => height.value,
    overscan: 6,
    getItemKey: (index: number) => props.rows[index]?.id ?? index,
  })),
)
const items = computed(() => virtual.value.getVirtualItems())
const shown = computed(() =>
  items.value.flatMap((item) => {
    const row = props.rows[item.index]
    return row ? [{ item, row }] : []
  }),
)
watch(items, (now) => {
  if ((now.at(-1)?.index ?? 0) >= props.rows.length - 20) emit('end')
})

const grid = computed(() => {
  const widths = props.columns.map((one) => one.width)
  // One column takes the room that is left.
  if (!props.columns.some((one) => one.key === 'why')) widths.push('1fr')
  return `grid-template-columns: 6.5rem minmax(7rem, 11.5rem) ${widths.join(' ')}`
})
const sorted = (key: ColumnKey) =>
  props.sort.key !== key ? undefined : props.sort.descending ? 'descending' : 'ascending'

/** Moves between rows with the arrow keys, or j and k; amends or resends with a and r. */
function onKey(event: KeyboardEvent) {
  const link = (event.target as Element).closest('[data-row]')
  if (!link || event.ctrlKey || event.metaKey || event.altKey) return
  const own = Number(link.getAttribute('data-row'))
  const act = { a: MessageAct.amend, r: MessageAct.resend }[event.key]
  const row = props.rows[own]
  if (act && row) return void router.push(`/messages/${row.id}?act=${act}`)
  const step = { ArrowDown: 1, j: 1, ArrowUp: -1, k: -1 }[event.key]
  if (!step) return
  event.preventDefault()
  const index = own + step
  if (index < 0 || index >= props.rows.length) return
  virtual.value.scrollToIndex(index)
  requestAnimationFrame(() => scroller.value?.querySelector<HTMLElement>(`[data-row="${index}"] a`)?.focus())
}

function open(event: MouseEvent, row: Message) {
  if ((event.target as Element).closest('a') || getSelection()?.toString()) return
  void router.push(`/messages/${row.id}`)
}
</script>

<template>
  <div
    role="table"
    aria-label="Messages"
    :aria-rowcount="rows.length + 1"
    :aria-busy="busy"
    class="panel overflow-hidden"
  >
    <div
      role="row"
      aria-rowindex="1"
      class="grid items-center gap-3 overflow-y-scroll border-b border-line px-4 py-2 text-left"
      :style="[grid, { scrollbarColor: 'transparent transparent' }]"
    >
      <span role="columnheader" class="heading">State</span>
      <span role="columnheader" class="heading">Number</span>
      <span v-for="{ key, title } in columns" :key="key" role="columnheader" class="heading" :aria-sort="sorted(key)">
        <button
          v-if="whole || key === 'received'"
          type="button"
          class="heading hover:text-thread"
          :data-sort="key"
          @click="emit('sort', key)"
        >
          {{ title }}<span v-if="sorted(key)" class="ml-1" aria-hidden="true">{{ sort.descending ? '↓' : '↑' }}</span>
        </button>
        <span v-else title="A list can be sorted by this column once it has no further page: add a filter.">{{
          title
        }}</span>
      </span>
    </div>
    <div
      ref="scroller"
      class="overflow-y-scroll"
      style="height: calc(100vh - 13.5rem); min-height: 16rem"
      role="rowgroup"
      tabindex="0"
      aria-label="Rows"
      @keydown="onKey"
    >
      <div class="relative" :style="{ height: `${virtual.getTotalSize()}px` }" role="presentation">
        <div
          v-for="{ item, row } in shown"
          :key="row.id"
          role="row"
          :aria-rowindex="item.index + 2"
          :data-row="item.index"
          :data-message="row.id"
          :data-state="row.state"
          class="absolute inset-x-0 grid cursor-pointer items-center gap-3 border-b border-line/60 px-4 text-sm hover:bg-sunken"
          :style="[grid, { height: `${height}px`, transform: `translateY(${item.start}px)` }]"
          @click="open($event, row)"
        >
          <MessageCells :row="row" :columns="columns" :failures="failures" />
        </div>
      </div>
    </div>
  </div>
</template>
