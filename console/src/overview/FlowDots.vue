<script setup lang="ts">
/**
 * Dots for messages that pass through the steps of a flow. Only decoration: screen readers get
 * the counts instead. A dot can be clicked, and stops under the pointer.
 */
import { onBeforeUnmount, ref } from 'vue'
import { useRouter } from 'vue-router'
import { lookOf } from '../words/states'
import type { Way } from './paths'

/** Milliseconds from step to step. */
const HOP = 380
/** Most dots at once: with more, single messages cannot be seen. */
const MOST = 60

const layer = ref<HTMLElement>()
const router = useRouter()
const calm = matchMedia('(prefers-reduced-motion: reduce)')
let shown = 0

function send(ways: Way[]) {
  if (!layer.value || document.visibilityState !== 'visible' || ways.length === 0) return
  const within = layer.value.getBoundingClientRect()
  const marks = [...(layer.value.parentElement?.querySelectorAll('[data-step-dot]') ?? [])].map((mark) => {
    const box = mark.getBoundingClientRect()
    return { x: box.x + box.width / 2 - within.x, y: box.y + box.height / 2 - within.y }
  })
  ways.forEach((way, n) => {
    if (shown < MOST) draw(way, marks, (n / ways.length) * 180)
  })
}

function draw(way: Way, marks: { x: number; y: number }[], delay: number) {
  const stops = way.steps.map((step) => marks[step]).filter((mark) => !!mark)
  const last = stops.at(-1)
  if (!last || !layer.value) return
  if (way.ending === 'end') stops.push(marks.at(-1)!)
  else if (way.ending === 'siding') stops.push({ x: last.x, y: last.y + 22 })
  else if (way.ending === 'loop') stops.push({ x: last.x, y: last.y - 22 }, last)
  else if (way.ending === 'gate') stops.push({ x: last.x - 14, y: last.y })
  const at = ({ x, y }: { x: number; y: number }) => `translate(${x - 10}px, ${y - 10}px)`
  // With reduced motion, show only the last position.
  const seen = calm.matches ? [stops.at(-1)!] : stops
  const frames: Keyframe[] = [
    { transform: at(seen[0]!), opacity: 0 },
    ...seen.map((stop) => ({ transform: at(stop), opacity: 1 })),
    { transform: at(seen.at(-1)!), opacity: 0 },
  ]
  const dot = document.createElement('a')
  dot.href = `/messages/${way.message}`
  dot.tabIndex = -1
  dot.dataset.dot = way.message
  dot.dataset.state = way.state
  dot.className = 'pointer-events-auto absolute top-0 left-0 grid size-5 place-items-center'
  dot.innerHTML = `<span class="size-2.5 rounded-full" style="background: var(--color-${lookOf(way.state).tone})"></span>`
  layer.value.append(dot)
  shown++
  const running = dot.animate(frames, { duration: HOP * frames.length, delay, easing: 'linear', fill: 'both' })
  const gone = () => {
    dot.remove()
    shown--
  }
  running.onfinish = gone
  running.oncancel = gone
  dot.onpointerenter = () => running.pause()
  dot.onpointerleave = () => running.play()
}

function open(event: MouseEvent) {
  const dot = (event.target as Element).closest<HTMLElement>('[data-dot]')
  if (!dot || event.ctrlKey || event.metaKey || event.shiftKey) return
  event.preventDefault()
  void router.push(`/messages/${dot.dataset.dot}`)
}

onBeforeUnmount(() => layer.value?.getAnimations({ subtree: true }).forEach((one) => one.cancel()))
defineExpose({ send })
</script>

<template>
  <div ref="layer" class="pointer-events-none absolute inset-0" aria-hidden="true" @click="open" />
</template>
