<script setup lang="ts">
/** The result of a map: fields with values, fields without a rule, or the whole document. */
import { computed, ref } from 'vue'
import type { MapOpen, MapProposal, MapTried } from '../api/schema'
import OpenFields from './OpenFields.vue'
import { has } from './targets'

const props = defineProps<{
  /** The last result without errors. */ good: MapTried | undefined
  /** Target fields without a rule, also if the map has errors. */ open: MapOpen[]
  proposals: Map<string, MapProposal>
  broken: boolean
  busy: boolean
}>()
defineEmits<{ take: [field: MapOpen, proposal: MapProposal | undefined]; show: [line: number] }>()

const find = ref('')
const whole = ref(false)
const rules = computed(() => (props.good?.rules ?? []).filter((one) => has(find.value, one.target, one.value)))
const open = computed(() => props.open.filter((one) => has(find.value, one.path, one.title)))
const needed = computed(() => open.value.filter((one) => one.required))
const spare = computed(() => open.value.filter((one) => !one.required))
</script>

<template>
  <section class="panel min-w-0 overflow-hidden" aria-label="Target" :class="broken && 'border-dashed'">
    <div class="flex min-h-10 items-center gap-2 border-b border-line px-3 py-1">
      <h2 class="font-medium whitespace-nowrap">
        Target<span v-if="broken" class="font-normal text-soft" title="Result of the rules before the error"
          >, last good result</span
        >
      </h2>
      <label class="flex items-center gap-1.5 text-sm whitespace-nowrap"
        ><input v-model="whole" type="checkbox" /> as a document</label
      >
      <input
        v-if="!whole"
        v-model="find"
        type="search"
        class="field ml-auto w-28 min-w-0 py-0.5 text-sm"
        placeholder="Find a field"
        aria-label="Find a field of the target"
      />
    </div>
    <pre v-if="whole" class="h-[58vh] overflow-auto p-3 font-mono text-sm" tabindex="0" aria-label="The document">{{
      good?.result
    }}</pre>
    <div v-else class="h-[58vh] overflow-auto text-sm" tabindex="0" aria-label="Fields of the target">
      <OpenFields
        v-if="needed.length"
        :open="needed"
        :proposals="proposals"
        :busy="busy"
        needed
        @take="(field, proposal) => $emit('take', field, proposal)"
      />
      <ul class="py-1">
        <li v-for="(one, n) in rules" :key="n">
          <button
            type="button"
            class="w-full px-3 py-0.5 text-left hover:bg-sunken"
            :data-target="one.target"
            :title="`Line ${one.line} of the map`"
            @click="$emit('show', one.line)"
          >
            <span class="block truncate font-mono">{{ one.target }}</span>
            <span v-if="one.value != null" class="block truncate text-soft">{{ one.value }}</span>
            <span v-else class="block text-faint italic">no value: left out</span>
          </button>
        </li>
      </ul>
      <OpenFields
        v-if="spare.length"
        :open="spare"
        :proposals="proposals"
        :busy="busy"
        @take="(field, proposal) => $emit('take', field, proposal)"
      />
    </div>
  </section>
</template>
