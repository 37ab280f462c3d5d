<script setup lang="ts">
/** What a draft of a map changes, before it is kept. */
import { ref, shallowRef } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import type { MapDraft } from '../api/schema'
import CompareView from '../ui/CompareView.vue'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'

const props = defineProps<{ name: string; before: string; after: string; draft: MapDraft | null }>()
const emit = defineEmits<{ close: []; kept: [draft: MapDraft] }>()
const trouble = shallowRef<Trouble>()
const busy = ref(false)

async function keep() {
  busy.value = true
  trouble.value = undefined
  try {
    const params = { path: { name: props.name } }
    emit('kept', await asked(api.PUT('/api/maps/{name}/draft', { params, body: { text: props.after } })))
  } catch (error) {
    trouble.value = troubleOf(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <ModalDialog :open="true" wide :title="`Draft of ${name}`" @close="$emit('close')">
    <p class="mb-3 text-sm text-soft">
      A draft changes nothing that runs. <code>wirewatch map take {{ name }} --yes</code> brings it into the folder, to
      be checked and deployed.
      <template v-if="draft">It takes the place of the draft by {{ draft.by }}.</template>
    </p>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-3" @again="keep" />
    <CompareView
      class="overflow-hidden rounded-md border border-line"
      form="bytes"
      :before="before"
      :after="after"
      before-label="as it runs"
      after-label="as it is here"
    />
    <div class="mt-4 flex justify-end gap-2">
      <button type="button" class="button" @click="$emit('close')">Back</button>
      <button type="button" class="button button-main" :disabled="busy" @click="keep">Keep the draft</button>
    </div>
  </ModalDialog>
</template>
