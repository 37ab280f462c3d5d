<script setup lang="ts">
import EmptyState from '../ui/EmptyState.vue'
</script>

<template>
  <main class="pt-[12vh]">
    <h1 class="sr-only">Not found</h1>
    <EmptyState title="There is no such page">
      The address may be misspelt. <RouterLink to="/" class="link">The lines</RouterLink> show everything that runs.
    </EmptyState>
  </main>
</template>
