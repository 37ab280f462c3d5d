<script setup lang="ts">
import EmptyState from '../ui/EmptyState.vue'
</script>

<template>
  <main class="pt-[12vh]">
    <h1 class="sr-only">Not found</h1>
    <EmptyState title="There is no such page">
      The address may be misspelt. The <RouterLink to="/" class="link">overview</RouterLink> shows everything that runs.
    </EmptyState>
  </main>
</template>
