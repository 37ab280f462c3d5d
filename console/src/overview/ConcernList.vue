<script setup lang="ts">
/** What needs attention, one row for each cause: problem, affected partners, start time and link. */
import { ArrowRightIcon } from '@heroicons/vue/16/solid'
import { computed, ref } from 'vue'
import TimeText from '../ui/TimeText.vue'
import type { Concern } from './concerns'

/** Number of concerns shown before "show all". */
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
  <section v-if="concerns.length" aria-label="Needs attention" aria-live="polite" class="panel">
    <ul class="divide-y divide-line/60">
      <li v-for="one in shown" :key="one.kind + one.to + one.because + one.says" class="animate-appear">
        <component
          :is="one.to ? 'RouterLink' : 'div'"
          :to="one.to || undefined"
          :data-concern="one.kind"
          class="group flex items-center gap-3 px-3 py-2 hover:bg-sunken/60"
        >
          <span
            aria-hidden="true"
            class="grid size-6 shrink-0 place-items-center rounded-full text-2xs"
            :style="{
              color: `var(--color-${looks[one.kind].tone})`,
              background: `color-mix(in oklab, var(--color-${looks[one.kind].tone}) 14%, transparent)`,
            }"
            >{{ looks[one.kind].mark }}</span
          >
          <div class="min-w-0 grow">
            <p class="font-medium">{{ one.says }}</p>
            <p v-if="one.because || one.whom" class="truncate text-sm text-soft" :title="one.because">
              {{ one.because }}<template v-if="one.because && one.whom"> · </template
              ><template v-if="one.whom">affects {{ one.whom }}</template>
            </p>
          </div>
          <p v-if="one.since" class="shrink-0 text-right text-sm text-faint max-[899px]:hidden">
            since <TimeText :at="one.since" /><br /><TimeText :at="one.since" as="distance" />
          </p>
          <span
            v-if="one.to"
            class="flex w-40 shrink-0 items-center justify-end gap-1 text-sm text-thread group-hover:underline max-[899px]:w-auto"
          >
            {{ one.opens }}<ArrowRightIcon class="size-4" aria-hidden="true" />
          </span>
        </component>
      </li>
    </ul>
    <button v-if="concerns.length > FIRST" type="button" class="link m-2 ml-12 text-sm" @click="all = !all">
      {{ all ? 'Show fewer' : `and ${concerns.length - FIRST} more` }}
    </button>
  </section>
</template>
