<script setup lang="ts">
/** The history as a vertical line of entries. */
import TimeText from '../ui/TimeText.vue'
import { lookOf } from '../words/states'
import type { Entry } from './story'

defineProps<{ entries: Entry[]; /** Id of the entry that is shown. */ shown: string }>()
const chosen = defineModel<string>({ required: true })
</script>

<template>
  <nav aria-label="Story" class="panel p-2">
    <ol>
      <li v-for="(entry, n) in entries" :key="entry.id" class="relative">
        <span
          v-if="n < entries.length - 1"
          class="absolute top-6 bottom-[-0.75rem] left-[1.05rem] w-0.5 bg-thread/40"
          aria-hidden="true"
        />
        <button
          type="button"
          class="flex w-full items-start gap-2.5 rounded-md px-2 py-1.5 text-left hover:bg-sunken"
          :class="shown === entry.id && 'bg-sunken'"
          :aria-current="shown === entry.id ? 'step' : undefined"
          :data-entry="entry.id"
          :data-state="entry.state"
          @click="chosen = entry.id"
        >
          <span
            class="relative mt-0.5 grid size-5 shrink-0 place-items-center rounded-full border-2 bg-surface text-[0.625rem]"
            :style="{ color: `var(--color-${lookOf(entry.state).tone})`, borderColor: 'currentColor' }"
            aria-hidden="true"
            >{{ entry.kind === 'act' ? '✎' : lookOf(entry.state).mark }}</span
          >
          <span class="min-w-0 grow">
            <span class="block truncate font-medium" :title="entry.title">{{ entry.title }}</span>
            <span v-if="entry.says" class="line-clamp-2 text-xs text-soft">{{ entry.says }}</span>
            <span class="sr-only">{{ entry.state }}</span>
          </span>
          <TimeText v-if="entry.at" :at="entry.at" class="mt-0.5 text-2xs text-faint" />
        </button>
      </li>
    </ol>
  </nav>
</template>
