<script setup lang="ts">
/** A list of labels with values. */
import type { EdiFact } from '../api/schema'

defineProps<{ facts: EdiFact[] }>()
</script>

<template>
  <dl v-if="facts.length" class="grid grid-cols-[max-content_minmax(0,1fr)] gap-x-5 gap-y-0.5">
    <template v-for="(fact, n) in facts" :key="n">
      <dt class="text-faint">{{ fact.label }}</dt>
      <dd>{{ fact.value }}</dd>
    </template>
  </dl>
</template>
