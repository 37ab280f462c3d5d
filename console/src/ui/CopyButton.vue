<script setup lang="ts">
/** Copies a text and confirms it. */
import { ClipboardDocumentCheckIcon, ClipboardDocumentIcon } from '@heroicons/vue/16/solid'
import { onScopeDispose, ref } from 'vue'

const props = defineProps<{ text: string; /** What is copied, e.g. `address`. */ what: string }>()
const copied = ref(false)
let timer: ReturnType<typeof setTimeout> | undefined
onScopeDispose(() => clearTimeout(timer))

async function copy() {
  await navigator.clipboard.writeText(props.text)
  copied.value = true
  clearTimeout(timer)
  timer = setTimeout(() => (copied.value = false), 1500)
}
</script>

<template>
  <button
    type="button"
    class="inline-grid size-6 shrink-0 place-items-center rounded-sm text-faint hover:bg-sunken hover:text-thread"
    :aria-label="copied ? `The ${what} is copied` : `Copy the ${what}`"
    :title="copied ? 'Copied' : `Copy the ${what}`"
    @click="copy"
  >
    <component :is="copied ? ClipboardDocumentCheckIcon : ClipboardDocumentIcon" class="size-4" aria-hidden="true" />
  </button>
</template>
