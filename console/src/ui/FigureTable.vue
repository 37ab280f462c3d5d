<script setup lang="ts">
/** The figures of a chart as a table, in a dialog. */
import ModalDialog from './ModalDialog.vue'
import TimeText from './TimeText.vue'

defineProps<{
  open: boolean
  title: string
  /** Heads of the columns after the first, which is the time. */
  heads: string[]
  rows: { at: string; cells: (string | number)[] }[]
}>()
defineEmits<{ close: [] }>()
</script>

<template>
  <ModalDialog :open="open" :title="title" @close="$emit('close')">
    <div class="max-h-[60vh] overflow-auto" tabindex="0">
      <table class="w-full text-sm tabular-nums">
        <thead>
          <tr class="text-left">
            <th class="heading py-1">From</th>
            <th v-for="head in heads" :key="head" class="heading text-right">{{ head }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in rows" :key="row.at" class="border-t border-line/60">
            <td class="py-1"><TimeText :at="row.at" /></td>
            <td v-for="(cell, n) in row.cells" :key="n" class="text-right">{{ cell }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <button type="button" class="button mt-4" @click="$emit('close')">Close</button>
  </ModalDialog>
</template>
