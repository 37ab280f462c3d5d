<script setup lang="ts">
/** What needs attention, one row for each cause: problem, affected partners, start time, link, and who works on it. */
import { ArrowRightIcon } from '@heroicons/vue/16/solid'
import { computed, ref } from 'vue'
import TimeText from '../ui/TimeText.vue'
import AssignButton from './AssignButton.vue'
import type { Concern } from './concerns'

/** Number of concerns shown before "show all". */
const FIRST = 6

const props = defineProps<{ concerns: Concern[] }>()
defineEmits<{ changed: [] }>()
const all = ref(false)
const shown = computed(() => (all.value ? props.concerns : props.concerns.slice(0, FIRST)))
const looks = {
  failed: { mark: '▲', tone: 'failed' },
  held: { mark: 'Ⅱ', tone: 'waiting' },
  retrying: { mark: '↻', tone: 'retrying' },
  warning: { mark: '!', tone: 'failed' },
}
/** What somebody works on is not red any more. */
const tone = (one: Concern) => (one.assigned ? 'soft' : looks[one.kind].tone)
</script>

<template>
  <section v-if="concerns.length" aria-label="Needs attention" aria-live="polite" class="panel">
    <ul class="divide-y divide-line/60">
      <li v-for="one in shown" :key="one.kind + one.to + one.because + one.says" class="animate-appear">
        <div class="group flex items-center gap-3 px-3 py-1.5 hover:bg-sunken/60">
          <component
            :is="one.to ? 'RouterLink' : 'div'"
            :to="one.to || undefined"
            :data-concern="one.kind"
            class="flex min-w-0 grow items-center gap-3"
          >
            <span
              aria-hidden="true"
              class="grid size-6 shrink-0 place-items-center rounded-full text-2xs"
              :style="{
                color: `var(--color-${tone(one)})`,
                background: `color-mix(in oklab, var(--color-${tone(one)}) 14%, transparent)`,
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
              class="flex w-44 shrink-0 items-center justify-end gap-1 text-sm whitespace-nowrap text-thread group-hover:underline max-[899px]:w-auto"
            >
              {{ one.opens }}<ArrowRightIcon class="size-4" aria-hidden="true" />
            </span>
          </component>
          <AssignButton
            v-if="one.problem"
            v-bind="one.problem"
            :says="one.says"
            :assigned="one.assigned"
            @changed="$emit('changed')"
          />
          <span v-else class="w-36 shrink-0 max-[899px]:hidden"></span>
        </div>
      </li>
    </ul>
    <button v-if="concerns.length > FIRST" type="button" class="link m-2 ml-12 text-sm" @click="all = !all">
      {{ all ? 'Show fewer' : `and ${concerns.length - FIRST} more` }}
    </button>
  </section>
</template>
