<script setup lang="ts">
/** Filter by time: a duration that ends now, or two times, shown as local time and exact in the address. */
import { fromLocal, toLocal, withins } from '../words/spans'
import PickList from './PickList.vue'

defineProps<{ label?: string }>()
const within = defineModel<string>('within', { required: true })
const since = defineModel<string>('since', { required: true })
const until = defineModel<string>('until', { required: true })
const options = [...withins, { value: 'between', text: 'between…' }]
</script>

<template>
  <PickList v-model="within" :label="label ?? 'Received'" :options="options" />
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
