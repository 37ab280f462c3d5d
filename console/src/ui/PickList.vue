<script setup lang="ts">
/** A select box: one of several values, or any. */
import { Listbox, ListboxButton, ListboxLabel, ListboxOption, ListboxOptions } from '@headlessui/vue'
import { CheckIcon, ChevronDownIcon } from '@heroicons/vue/16/solid'

defineProps<{ label: string; options: { value: string; text: string }[] }>()
const chosen = defineModel<string>({ required: true })
</script>

<template>
  <Listbox v-model="chosen" as="div" class="relative">
    <ListboxLabel class="sr-only">{{ label }}</ListboxLabel>
    <ListboxButton
      class="field flex max-w-64 items-center gap-1.5 hover:border-thread"
      :class="chosen && 'border-thread! font-medium'"
    >
      <span class="whitespace-nowrap text-faint">{{ label }}</span>{{ ' ' }}
      <span class="truncate">{{ options.find((one) => one.value === chosen)?.text ?? (chosen || 'any') }}</span>
      <ChevronDownIcon class="size-4 shrink-0 text-faint" aria-hidden="true" />
    </ListboxButton>
    <ListboxOptions
      class="absolute z-30 mt-1 max-h-80 min-w-full animate-appear overflow-auto rounded-md border border-line bg-raised py-1 text-sm shadow-over focus:outline-none"
    >
      <ListboxOption
        v-for="option in [{ value: '', text: 'any' }, ...options]"
        :key="option.value"
        v-slot="{ active, selected }"
        :value="option.value"
      >
        <span
          class="flex items-center gap-2 px-3 py-1.5 whitespace-nowrap"
          :class="[active && 'bg-sunken', selected && 'font-medium']"
        >
          <CheckIcon class="size-4" :class="selected ? 'text-thread' : 'invisible'" aria-hidden="true" />
          {{ option.text }}
        </span>
      </ListboxOption>
    </ListboxOptions>
  </Listbox>
</template>
