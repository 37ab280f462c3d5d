<script setup lang="ts">
/** Summary of one transaction set: parties, lines, terms and totals. */
import type { EdiSet } from '../api/schema'
import FactList from './FactList.vue'

defineProps<{ set: EdiSet }>()
const acks: Record<string, string> = {
  A: 'would be accepted',
  E: 'would be accepted with errors',
  R: 'would be rejected',
}
</script>

<template>
  <div
    class="h-[calc(100vh-16.5rem)] min-h-72 space-y-4 overflow-auto p-4 text-sm"
    tabindex="0"
    role="region"
    aria-label="Summary"
  >
    <header>
      <h2 class="text-base font-semibold">{{ set.summary.title || `Transaction set ${set.set}` }}</h2>
      <p class="text-soft">
        {{ set.summary.kind }}<template v-if="set.summary.kind && set.ack"> · </template>
        <span v-if="set.ack" :class="set.ack === 'R' && 'font-medium text-failed'">{{ acks[set.ack] }}</span>
      </p>
      <p v-if="!set.name" class="mt-2">
        This set is not defined, so it is shown unchanged. A workspace can define it in <code>standards/</code>.
      </p>
    </header>
    <ul v-if="set.summary.says.length" class="list-disc space-y-1 pl-5">
      <li v-for="says in set.summary.says" :key="says">{{ says }}</li>
    </ul>
    <FactList :facts="set.summary.facts" />
    <div v-if="set.summary.parties.length" class="flex flex-wrap gap-x-10 gap-y-3">
      <section v-for="(party, n) in set.summary.parties" :key="n">
        <h3 class="heading mb-0.5">{{ party.role }}</h3>
        <p class="font-medium">{{ party.name }}</p>
        <p v-if="party.id" class="text-soft">{{ party.id }}</p>
        <p v-for="line in party.address" :key="line">{{ line }}</p>
        <FactList :facts="party.facts" class="mt-1" />
      </section>
    </div>
    <table v-if="set.summary.lines.length" class="w-full">
      <thead>
        <tr class="border-b border-line text-left text-xs text-faint">
          <th class="py-1 pr-3 font-medium">Line</th>
          <th class="py-1 pr-3 text-right font-medium">Quantity</th>
          <th class="py-1 pr-3 font-medium">Unit</th>
          <th class="py-1 pr-3 text-right font-medium">Price</th>
          <th class="py-1 pr-3 text-right font-medium">Amount</th>
          <th class="py-1 font-medium">Item</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(line, n) in set.summary.lines" :key="n" class="border-b border-line/50 align-top">
          <td class="py-1 pr-3">{{ line.number }}</td>
          <td class="py-1 pr-3 text-right tabular-nums">{{ line.quantity }}</td>
          <td class="py-1 pr-3">{{ line.unit }}</td>
          <td class="py-1 pr-3 text-right tabular-nums">{{ line.price }}</td>
          <td class="py-1 pr-3 text-right tabular-nums">{{ line.amount }}</td>
          <td class="py-1">
            <p>{{ line.description }}</p>
            <p v-for="id in line.ids" :key="id.label" class="text-xs text-soft">
              {{ id.value }} <span class="text-faint">{{ id.label }}</span>
            </p>
            <p v-for="(fact, i) in line.facts" :key="i" class="text-xs">
              <span class="text-faint">{{ fact.label }}</span> {{ fact.value }}
            </p>
          </td>
        </tr>
      </tbody>
    </table>
    <FactList :facts="set.summary.totals" />
    <p v-for="says in set.summary.warnings" :key="says" class="text-retrying" data-part="warning">
      <span aria-hidden="true">▲ </span>{{ says }}
    </p>
  </div>
</template>
