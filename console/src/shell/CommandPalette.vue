<script setup lang="ts">
/** Command palette: finds pages, flows, partners, connections and order numbers. */
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions, Dialog, DialogPanel } from '@headlessui/vue'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { type Choice, matching, numbersIn, pageChoices, partsOf } from './choices'
import { useWorkspace } from './useWorkspace'

const props = defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const workspace = useWorkspace()
const typed = ref('')
watch(
  () => props.open,
  (open) => open && (typed.value = ''),
)
const choices = computed(() => [
  ...numbersIn(typed.value),
  ...matching(typed.value, [...pageChoices, ...partsOf(workspace.value)]),
])

function go(choice: Choice | null) {
  if (!choice) return
  emit('close')
  void router.push(choice.to)
}
</script>

<template>
  <Dialog :open="open" class="relative z-50" aria-label="Go to" @close="$emit('close')">
    <div class="fixed inset-0 bg-shade" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center p-6 pt-[12vh]">
      <DialogPanel
        class="w-full max-w-xl animate-appear overflow-hidden rounded-lg border border-line bg-raised shadow-over"
      >
        <Combobox @update:model-value="go">
          <ComboboxInput
            class="w-full border-b border-line bg-transparent px-4 py-3 outline-none placeholder:text-faint"
            placeholder="A page, a flow, a partner, or an order’s number"
            aria-label="Go to"
            autocomplete="off"
            @change="typed = $event.target.value"
          />
          <ComboboxOptions static class="max-h-[50vh] overflow-auto py-1.5" aria-label="Results">
            <ComboboxOption v-for="choice in choices" :key="choice.to" v-slot="{ active }" :value="choice">
              <span class="flex items-baseline gap-3 px-4 py-1.5" :class="active && 'bg-sunken'">
                <span>{{ choice.text }}</span>
                <span class="ml-auto text-xs text-faint">{{ choice.kind }}</span>
              </span>
            </ComboboxOption>
            <li v-if="!choices.length" class="px-4 py-3 text-sm text-soft" role="option" aria-disabled="true">
              Nothing found. To open an order, type its number.
            </li>
          </ComboboxOptions>
        </Combobox>
      </DialogPanel>
    </div>
  </Dialog>
</template>
