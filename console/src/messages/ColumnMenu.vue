<script setup lang="ts">
/** Chooses the columns of the list of messages. */
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { ViewColumnsIcon } from '@heroicons/vue/16/solid'
import { type Column, columns } from './columns'
import { useColumns } from './useColumns'

const props = defineProps<{ shown: Column[] }>()
const { chosen, choose } = useColumns()
const has = (key: Column['key']) => props.shown.some((one) => one.key === key)
const toggle = (key: Column['key']) =>
  choose(columns.map((one) => one.key).filter((one) => (one === key ? !has(key) : has(one))))
</script>

<template>
  <Popover class="relative ml-auto">
    <PopoverButton class="button"><ViewColumnsIcon class="size-4" aria-hidden="true" />Columns</PopoverButton>
    <PopoverPanel
      class="absolute right-0 z-30 mt-1 w-48 animate-appear rounded-md border border-line bg-raised p-2 text-sm shadow-over"
    >
      <label
        v-for="{ key, title } in columns"
        :key="key"
        class="flex items-center gap-2 rounded px-2 py-1 hover:bg-sunken"
      >
        <input type="checkbox" class="accent-thread" :checked="has(key)" :data-column="key" @change="toggle(key)" />
        {{ title }}
      </label>
      <button v-if="chosen" type="button" class="link mt-1 px-2 text-xs" @click="choose(undefined)">
        Show the usual columns
      </button>
    </PopoverPanel>
  </Popover>
</template>
