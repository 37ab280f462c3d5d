<script setup lang="ts">
/** The button that opens the submit dialog, which is loaded when needed. */
import { defineAsyncComponent, ref } from 'vue'

defineProps<{ flow: string; title: string }>()
const SubmitDialog = defineAsyncComponent(() => import('./SubmitDialog.vue'))
const open = ref(false)
</script>

<template>
  <button
    type="button"
    class="shrink-0 text-xs text-faint opacity-0 group-focus-within/line:opacity-100 group-hover/line:opacity-100 pointer-coarse:opacity-100 hover:text-thread hover:underline focus-visible:opacity-100"
    data-part="submit"
    @click="open = true"
  >
    Submit one…
  </button>
  <SubmitDialog v-if="open" :flow="flow" :title="title" @close="open = false" />
</template>
