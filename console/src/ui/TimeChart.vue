<script setup lang="ts">
/** A chart over time, as bars or lines. The figures are also in a table, for those who cannot see it. */
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useTheme } from '../shell/useTheme'

export interface Series {
  name: string
  /** Oldest first; `null` where there is no value. */
  values: (number | null)[]
  /** A colour of the palette. */
  tone: string
}

const props = defineProps<{
  /** What it shows, in words. */ label: string
  /** Moments of the values, RFC 3339. */
  at: string[]
  series: Series[]
  bars?: boolean
  /** Writes a value. */
  write: (value: number) => string
}>()
const HEIGHT = 168
const place = ref<HTMLElement>()
const theme = useTheme()
const dark = matchMedia('(prefers-color-scheme: dark)')
let plot: uPlot | undefined
let watcher: ResizeObserver | undefined

const data = (): uPlot.AlignedData => [
  props.at.map((at) => Date.parse(at) / 1000),
  ...props.series.map((one) => one.values),
]

/** Seconds from one value to the next: each value is that of the span that begins there. */
const slot = () => (props.at.length > 1 ? (Date.parse(props.at[1]!) - Date.parse(props.at[0]!)) / 1000 : 60)
/** Draws it anew, in the colours of the theme. */
function draw() {
  const element = place.value
  if (!element) return
  // A canvas does not know `light-dark()`: the browser resolves it on an element.
  const colour = (name: string) => {
    element.style.color = `var(--color-${name})`
    return getComputedStyle(element).color
  }
  const axis = { stroke: colour('faint'), grid: { stroke: colour('line'), width: 1 }, ticks: { show: false } }
  const bars = uPlot.paths.bars?.({ size: [0.7, 24], align: 1 })
  plot?.destroy()
  plot = new uPlot(
    {
      width: element.clientWidth,
      height: HEIGHT,
      legend: { show: false },
      cursor: { y: false },
      scales: {
        x: { range: (_, first, last) => [first, last + slot()] },
        y: { range: (_, __, most) => [0, Math.max(most * 1.05, 1)] },
      },
      axes: [
        { ...axis, size: 28, values: (_, all) => all.map(clock) },
        { ...axis, size: 64, values: (_, all) => all.map(props.write) },
      ],
      series: [
        {},
        ...props.series.map(({ name, tone }) => ({
          label: name,
          stroke: colour(tone),
          width: props.bars ? 0 : 1.5,
          points: { show: !props.bars, size: 5, fill: colour(tone) },
          ...(props.bars && { fill: colour(tone), paths: bars }),
        })),
      ],
    },
    data(),
    element,
  )
}
const clock = (seconds: number) =>
  new Date(seconds * 1000).toLocaleTimeString(undefined, { hour: '2-digit', minute: '2-digit', hourCycle: 'h23' })

onMounted(() => {
  draw()
  dark.addEventListener('change', draw)
  watcher = new ResizeObserver(([entry]) => plot?.setSize({ width: entry!.contentRect.width, height: HEIGHT }))
  watcher.observe(place.value!)
})
onBeforeUnmount(() => {
  dark.removeEventListener('change', draw)
  watcher?.disconnect()
  plot?.destroy()
})
watch([() => props.at, () => props.series], () => plot?.setData(data()))
// The colours are those of the new theme once the page has it.
watch(theme, () => requestAnimationFrame(draw))
</script>

<template>
  <figure class="min-w-0">
    <figcaption class="mb-1 flex flex-wrap gap-x-4 text-xs text-soft">
      <span v-for="one in series" :key="one.name" class="flex items-center gap-1.5">
        <span class="size-2 rounded-full" :style="{ background: `var(--color-${one.tone})` }" aria-hidden="true"></span
        >{{ one.name }}
      </span>
    </figcaption>
    <div ref="place" role="img" :aria-label="label" :style="{ height: `${HEIGHT}px` }"></div>
  </figure>
</template>
