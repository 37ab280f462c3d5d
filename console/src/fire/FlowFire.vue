<script setup lang="ts">
/** The way to firing a document at a flow; what that needs is loaded when it is wanted. */
import { defineAsyncComponent, ref } from 'vue'

defineProps<{ flow: string; title: string }>()
const FireDialog = defineAsyncComponent(() => import('./FireDialog.vue'))
const open = ref(false)
</script>

<template>
  <button
    type="button"
    class="shrink-0 text-xs text-faint opacity-0 group-focus-within/strand:opacity-100 group-hover/strand:opacity-100 pointer-coarse:opacity-100 hover:text-thread hover:underline focus-visible:opacity-100"
    data-part="fire"
    @click="open = true"
  >
    Fire one…
  </button>
  <FireDialog v-if="open" :flow="flow" :title="title" @close="open = false" />
</template>
