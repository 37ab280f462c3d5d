<script setup lang="ts">
/** Target fields without a rule, each with a proposed rule that can be accepted. */
import type { MapOpen, MapProposal } from '../api/schema'
import { count } from '../words/format'

defineProps<{
  open: MapOpen[]
  proposals: Map<string, MapProposal>
  busy: boolean
  /** The target must have them. */ needed?: boolean
}>()
defineEmits<{ take: [field: MapOpen, proposal: MapProposal | undefined] }>()
</script>

<template>
  <section
    :aria-label="needed ? 'Required fields without a rule' : 'Fields without a rule'"
    data-part="open"
    :class="needed && 'border-b border-line bg-failed/5'"
  >
    <h3 class="border-line px-3 py-1 text-sm" :class="needed ? 'text-failed' : 'border-y bg-sunken text-soft'">
      {{ count(open.length, needed ? 'required field' : 'field') }} without a rule
    </h3>
    <ul>
      <li v-for="field in open" :key="field.path" class="px-3 py-1" :data-open="field.path">
        <p class="flex items-baseline gap-2">
          <span class="min-w-0 truncate font-mono" :title="field.title">{{ field.path }}</span>
          <span class="ml-auto text-xs text-faint">{{ field.kind }}</span>
        </p>
        <template v-for="proposal in [proposals.get(field.path)]" :key="proposal?.expression ?? ''">
          <p class="flex items-baseline gap-2">
            <span v-if="proposal" class="min-w-0 grow">
              <span class="block truncate font-mono text-sm">{{ proposal.expression }}</span>
              <span class="block truncate text-xs text-soft" :title="proposal.because"
                >{{ proposal.confidence }}: {{ proposal.because }}</span
              >
            </span>
            <span v-else class="min-w-0 grow text-xs text-faint">no similar field in the source</span>
            <button
              type="button"
              class="link text-sm whitespace-nowrap"
              :disabled="busy"
              :aria-label="
                proposal ? `Take ${proposal.expression} for ${field.path}` : `Write a rule for ${field.path}`
              "
              @click="$emit('take', field, proposal)"
            >
              {{ proposal ? 'Take' : 'Write a rule' }}
            </button>
          </p>
        </template>
      </li>
    </ul>
  </section>
</template>
