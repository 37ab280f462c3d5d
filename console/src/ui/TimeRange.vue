<script setup lang="ts">
/** When something came in: in a span that ends now, or between two times, which are local here and exact in the address. */
import { fromLocal, toLocal, withins } from '../words/spans'
import PickList from './PickList.vue'

const within = defineModel<string>('within', { required: true })
const since = defineModel<string>('since', { required: true })
const until = defineModel<string>('until', { required: true })
const options = [...withins, { value: 'between', text: 'between…' }]
</script>

<template>
  <PickList v-model="within" label="Came in" :options="options" />
  <template v-if="within === 'between' || (!within && (since || until))">
    <label class="flex items-center gap-1.5 text-sm text-faint"
      >from
      <input
        type="datetime-local"
        class="field"
        :value="toLocal(since)"
        @change="since = fromLocal(($event.target as HTMLInputElement).value)"
      />
    </label>
    <label class="flex items-center gap-1.5 text-sm text-faint"
      >until
      <input
        type="datetime-local"
        class="field"
        :value="toLocal(until)"
        @change="until = fromLocal(($event.target as HTMLInputElement).value)"
      />
    </label>
  </template>
</template>
