<script setup lang="ts">
/** The difference that a draft of a map makes, shown before it is stored. */
import { ref, shallowRef } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import type { MapDraft } from '../api/schema'
import CompareView from '../ui/CompareView.vue'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'

const props = defineProps<{ name: string; before: string; after: string; draft: MapDraft | null }>()
const emit = defineEmits<{ close: []; saved: [draft: MapDraft] }>()
const trouble = shallowRef<Trouble>()
const busy = ref(false)

async function keep() {
  busy.value = true
  trouble.value = undefined
  try {
    const params = { path: { name: props.name } }
    emit('saved', await asked(api.PUT('/api/maps/{name}/draft', { params, body: { text: props.after } })))
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
      A draft does not change the running release. <code>wirewatch map take {{ name }} --yes</code> writes it to the
      folder, where it can be checked and deployed.
      <template v-if="draft">It replaces the draft of {{ draft.by }}.</template>
    </p>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-3" @again="keep" />
    <CompareView
      class="overflow-hidden rounded-md border border-line"
      form="bytes"
      :before="before"
      :after="after"
      before-label="running version"
      after-label="as it is here"
    />
    <div class="mt-4 flex justify-end gap-2">
      <button type="button" class="button" @click="$emit('close')">Back</button>
      <button type="button" class="button button-main" :disabled="busy" @click="keep">Store the draft</button>
    </div>
  </ModalDialog>
</template>
