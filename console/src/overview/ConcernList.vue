<script setup lang="ts">
/** What needs attention, each with whom it affects, since when, and where to go. */
import { ArrowRightIcon } from '@heroicons/vue/16/solid'
import { computed, ref } from 'vue'
import TimeText from '../ui/TimeText.vue'
import type { Concern } from './troubles'

/** So many are shown before the rest is asked for. */
const FIRST = 6

const props = defineProps<{ concerns: Concern[] }>()
const all = ref(false)
const shown = computed(() => (all.value ? props.concerns : props.concerns.slice(0, FIRST)))
const looks = {
  failed: { mark: '▲', tone: 'failed' },
  held: { mark: 'Ⅱ', tone: 'waiting' },
  retrying: { mark: '↻', tone: 'retrying' },
  warning: { mark: '!', tone: 'failed' },
}
</script>

<template>
  <section aria-label="What to see to" aria-live="polite">
    <ul class="grid gap-2 xl:grid-cols-2 2xl:grid-cols-3">
      <li v-for="one in shown" :key="one.kind + one.to + one.because" class="animate-appear">
        <component
          :is="one.to ? 'RouterLink' : 'div'"
          :to="one.to || undefined"
          :data-concern="one.kind"
          class="group flex h-full items-start gap-3 rounded-lg border bg-surface py-2.5 pr-4 pl-3"
          :style="{
            borderColor: `color-mix(in oklab, var(--color-${looks[one.kind].tone}) 38%, var(--color-line))`,
          }"
        >
          <span
            aria-hidden="true"
            class="mt-0.5 grid size-6 shrink-0 place-items-center rounded-full text-2xs"
            :style="{
              color: `var(--color-${looks[one.kind].tone})`,
              background: `color-mix(in oklab, var(--color-${looks[one.kind].tone}) 14%, transparent)`,
            }"
            >{{ looks[one.kind].mark }}</span
          >
          <div class="min-w-0 grow">
            <p class="font-medium">{{ one.says }}</p>
            <p v-if="one.because" class="truncate text-sm text-soft" :title="one.because">{{ one.because }}</p>
            <p class="text-sm text-faint">
              <template v-if="one.since">since <TimeText :at="one.since" /></template>
              <template v-if="one.whom"> · affects {{ one.whom }}</template>
            </p>
          </div>
          <span v-if="one.to" class="mt-0.5 flex shrink-0 items-center gap-1 text-sm text-thread group-hover:underline">
            {{ one.opens }}<ArrowRightIcon class="size-4" aria-hidden="true" />
          </span>
        </component>
      </li>
    </ul>
    <button v-if="concerns.length > FIRST" type="button" class="link mt-2 text-sm" @click="all = !all">
      {{ all ? 'Show the first alone' : `and ${concerns.length - FIRST} more` }}
    </button>
  </section>
</template>
