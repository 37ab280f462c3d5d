<script setup lang="ts">
/** The milestones of one order as a line, with the durations between them; hollow if not reached yet. */
import { MilestoneMark } from '../api/schema'
import type { Order } from '../api/schema'
import { computed } from 'vue'
import TimeText from '../ui/TimeText.vue'
import { took } from '../words/format'

const props = defineProps<{ order: Order; /** With times and links beneath. */ large?: boolean }>()
/**
 * In lists every order of a plan has the same columns: a milestone in trouble is drawn in the place of the one that it keeps from
 * being reached, and is left out when that was reached.
 */
const shown = computed(() => {
  const all = props.order.milestones
  if (props.large) return all
  const columns = all.filter(({ mark }) => mark !== MilestoneMark.trouble)
  const trouble = all.findLast(({ mark, at }) => mark === MilestoneMark.trouble && at)
  const ahead = columns.findIndex(({ at }) => !at)
  return trouble && ahead >= 0 ? columns.with(ahead, trouble) : columns
})
const signs: Partial<Record<MilestoneMark, string>> = { [MilestoneMark.trouble]: '▲', [MilestoneMark.ends]: '✓' }
</script>

<template>
  <ol class="flex w-full items-start">
    <li
      v-for="(milestone, n) in shown"
      :key="milestone.name"
      class="relative min-w-0 flex-1 text-center"
      :data-milestone="milestone.name"
      :data-reached="!!milestone.at"
    >
      <span
        v-if="n > 0"
        class="absolute h-0.5"
        :class="[
          large
            ? 'top-[1.6rem] right-[calc(50%+0.625rem)] left-[calc(-50%+0.625rem)]'
            : 'top-[1.35rem] right-[calc(50%+0.4375rem)] left-[calc(-50%+0.4375rem)]',
          milestone.at ? 'bg-thread/50' : 'bg-line',
        ]"
        aria-hidden="true"
      />
      <p class="h-4 truncate px-1 text-2xs text-faint">
        <template v-if="n > 0 && milestone.after_ms != null">{{ took(milestone.after_ms * 1000) }}</template>
      </p>
      <span
        class="relative mx-auto grid place-items-center rounded-full border-2 bg-surface"
        :class="large ? 'size-5 text-2xs' : 'size-3.5 text-[0.5rem]'"
        :style="{
          borderColor: !milestone.at
            ? 'var(--color-line-strong)'
            : milestone.mark === MilestoneMark.trouble
              ? 'var(--color-failed)'
              : 'var(--color-thread)',
          color: milestone.mark === MilestoneMark.trouble ? 'var(--color-failed)' : 'var(--color-on-thread)',
          background: milestone.at && milestone.mark !== MilestoneMark.trouble ? 'var(--color-thread)' : undefined,
          borderStyle: milestone.at ? 'solid' : 'dashed',
        }"
        aria-hidden="true"
        >{{ large && milestone.at ? (signs[milestone.mark] ?? '') : '' }}</span
      >
      <p
        class="mt-0.5 truncate px-1 text-xs"
        :class="
          milestone.at ? (milestone.mark === MilestoneMark.trouble ? 'font-medium text-failed' : '') : 'text-faint'
        "
      >
        <RouterLink v-if="large && milestone.message" :to="`/messages/${milestone.message}`" class="link">{{
          milestone.name
        }}</RouterLink>
        <template v-else>{{ milestone.name }}</template>
        <span v-if="milestone.times > 1" class="text-faint"> ×{{ milestone.times }}</span>
        <span v-if="!milestone.at" class="sr-only">, not reached yet</span>
      </p>
      <p v-if="large && milestone.at" class="text-2xs text-faint"><TimeText :at="milestone.at" /></p>
    </li>
  </ol>
</template>
