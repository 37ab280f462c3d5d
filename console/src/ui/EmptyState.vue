<script setup lang="ts">
/** An empty list or page: what belongs here, and how to add it. */
defineProps<{ title: string }>()
</script>

<template>
  <div class="mx-auto max-w-xl px-6 py-14 text-center">
    <svg viewBox="0 0 120 24" class="mx-auto mb-4 w-28 text-line-strong" aria-hidden="true">
      <path d="M2 12h116" stroke="currentColor" stroke-width="1.5" stroke-dasharray="2 5" stroke-linecap="round" />
      <circle
        v-for="x in [30, 60, 90]"
        :key="x"
        :cx="x"
        cy="12"
        r="4"
        fill="var(--color-ground)"
        stroke="currentColor"
      />
    </svg>
    <p class="text-lg font-medium">{{ title }}</p>
    <div class="mt-1 text-soft"><slot /></div>
  </div>
</template>
