<script setup lang="ts">
/** The error of a request to the service, in the service's words. */
import type { Trouble } from '../api/client'

defineProps<{
  trouble: Trouble
  /** `@again` repeats the request; the button is shown only when a parent listens to it. */
  onAgain?: () => void
}>()
</script>

<template>
  <div
    role="alert"
    class="flex animate-appear items-start gap-3 rounded-md border px-3 py-2 text-sm"
    style="border-color: color-mix(in oklab, var(--color-failed) 50%, transparent)"
  >
    <span aria-hidden="true" class="text-failed">▲</span>
    <div class="min-w-0 grow">
      <p class="font-medium">{{ trouble.message }}</p>
      <p v-if="trouble.detail" class="text-soft">{{ trouble.detail }}</p>
      <ul v-if="trouble.findings.length" class="mt-1 space-y-1">
        <li v-for="(finding, n) in trouble.findings" :key="n" class="text-soft">
          <span class="text-faint"
            >{{ finding.file }}<template v-if="finding.line"> line {{ finding.line }}</template
            >:</span
          >
          {{ finding.says }}<template v-if="finding.help"> — {{ finding.help }}</template>
        </li>
      </ul>
    </div>
    <button v-if="onAgain" type="button" class="button" @click="onAgain()">Try again</button>
  </div>
</template>
