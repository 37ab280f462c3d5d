<script setup lang="ts">
/** A value to replace in many documents, and the messages it was tried on. */
import { computed } from 'vue'
import type { BulkPreview, CorrectedMessage } from '../api/schema'
import { count } from '../words/format'

const props = defineProps<{ preview: BulkPreview; checking: boolean }>()
const replace = defineModel<string>('replace', { required: true })
const put = defineModel<string>('with', { required: true })
const field = defineModel<string>('field', { required: true })

/** Takes the suggested field with a suggested value. */
function choose(value: string) {
  replace.value = value
  field.value = props.preview.suggested.find((one) => one.value === value)?.field ?? field.value
}
const next = ({ next }: CorrectedMessage) => next?.request?.line ?? next?.state ?? ''
const ready = computed(() => props.preview.corrected.filter((one) => !one.says).length)
</script>

<template>
  <div class="mt-3 grid gap-3 sm:grid-cols-[1fr_1fr_9rem]">
    <div>
      <label class="block text-sm font-medium" for="correct-replace">Replace the value</label>
      <input id="correct-replace" v-model="replace" class="field mt-1 w-full" autocomplete="off" />
    </div>
    <div>
      <label class="block text-sm font-medium" for="correct-with">with</label>
      <input id="correct-with" v-model="put" class="field mt-1 w-full" autocomplete="off" />
    </div>
    <div>
      <label class="block text-sm font-medium" for="correct-field">only in field</label>
      <input id="correct-field" v-model="field" class="field mt-1 w-full" placeholder="any" autocomplete="off" />
    </div>
  </div>
  <p v-if="preview.suggested.length" class="mt-2 flex flex-wrap items-center gap-1.5 text-sm text-soft">
    The failure names
    <button
      v-for="one in preview.suggested"
      :key="one.field + one.value"
      type="button"
      class="rounded-full border border-line px-2 py-0.5 text-xs hover:border-thread"
      data-part="suggested"
      @click="choose(one.value)"
    >
      <code>{{ one.value }}</code> in {{ one.field }}
    </button>
  </p>
  <div v-if="preview.corrected.length" class="mt-3" :aria-busy="checking">
    <p class="text-sm" role="status" data-part="tried">
      Tried on {{ count(preview.corrected.length, 'message') }}: {{ ready }} would be corrected.
    </p>
    <div class="mt-1 max-h-48 overflow-auto" tabindex="0" aria-label="Messages it was tried on">
      <table class="w-full text-sm">
        <tbody>
          <tr v-for="one in preview.corrected" :key="one.message" class="border-t border-line/60">
            <td class="py-1 pr-3 font-medium whitespace-nowrap">{{ one.key || one.message }}</td>
            <td v-if="one.says" class="py-1 text-failed" colspan="2">{{ one.says }}</td>
            <template v-else>
              <td class="py-1 pr-3 text-soft">{{ one.fields.join(', ') }}</td>
              <td class="py-1 text-soft">then {{ next(one) }}</td>
            </template>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>
