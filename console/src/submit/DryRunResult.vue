<script setup lang="ts">
/** What a document would become and send: the outcome of a dry run. */
import { computed } from 'vue'
import type { DryRunView } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'
import StateBadge from '../ui/StateBadge.vue'
import { count } from '../words/format'

const props = defineProps<{ run: DryRunView }>()
const requests = computed(() => props.run.messages.flatMap((one) => one.steps.filter((step) => step.request)).length)
</script>

<template>
  <section class="mt-3" aria-label="What would be sent" data-part="dry-run">
    <p class="text-sm" role="status">
      <StateBadge :state="run.verdict" />
      {{ run.says }}
      <template v-if="run.messages.length">
        {{ count(run.messages.length + run.left_out, 'message') }}, {{ count(requests, 'request')
        }}<template v-if="run.left_out"> of the first {{ run.messages.length }}</template
        >. Nothing was sent and nothing was stored.
      </template>
    </p>
    <ul class="mt-2 max-h-52 space-y-2 overflow-auto text-sm" tabindex="0" aria-label="Messages">
      <li v-for="one in run.acknowledgments" :key="one" class="text-soft">{{ one }} would be sent to the partner</li>
      <li v-for="(message, n) in run.messages" :key="n" class="border-t border-line/60 pt-1.5">
        <p class="flex flex-wrap items-center gap-2">
          <strong class="font-semibold">{{ message.key || 'message' }}</strong>
          <span v-if="message.way" class="text-soft">branch {{ message.way }}</span>
          <StateBadge :state="message.ends" />
          <span :class="message.says && 'text-failed'">{{ message.says }}</span>
        </p>
        <template v-for="step in message.steps" :key="step.step">
          <details v-if="step.request" class="ml-4">
            <summary class="cursor-pointer">
              <span class="text-faint">{{ step.step }}</span> <code>{{ step.request.line }}</code> at
              {{ titleOf('connections', step.request.connection) }}
            </summary>
            <p v-for="property in step.request.with" :key="property" class="ml-4 text-soft">{{ property }}</p>
            <pre v-if="step.request.body" class="ml-4 overflow-x-auto text-xs text-soft" tabindex="0">{{
              step.request.body.text
            }}</pre>
          </details>
        </template>
      </li>
    </ul>
  </section>
</template>
