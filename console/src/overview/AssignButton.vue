<script setup lang="ts">
/** Who works on a problem, and the button that says "I'm on it". */
import { ref } from 'vue'
import { api, asked } from '../api/client'
import type { Assignment, ProblemKind } from '../api/schema'
import ModalDialog from '../ui/ModalDialog.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAct } from '../ui/useAct'

const props = defineProps<{
  kind: ProblemKind
  name: string
  /** The problem in words. */ says: string
  assigned?: Assignment
}>()
const emit = defineEmits<{ changed: [] }>()
const open = ref(false)
const to = ref('')
const note = ref('')
const { busy, trouble, carryOut } = useAct(changed)

function ask() {
  to.value = props.assigned?.to ?? ''
  note.value = props.assigned?.note ?? ''
  trouble.value = undefined
  open.value = true
}
function changed() {
  open.value = false
  emit('changed')
}
const problem = () => ({ kind: props.kind, name: props.name })
const assign = () =>
  carryOut(() => asked(api.PUT('/api/assignments', { body: { ...problem(), to: to.value, note: note.value } })))
const remove = () => carryOut(() => asked(api.DELETE('/api/assignments', { params: { query: problem() } })))
</script>

<template>
  <div class="w-36 shrink-0 text-right max-[899px]:w-auto">
    <button
      type="button"
      data-part="assign"
      class="max-w-full rounded-full border border-line px-2.5 py-0.5 text-left text-xs hover:border-thread"
      :class="assigned ? 'text-soft' : 'text-thread'"
      :title="assigned?.note"
      :aria-label="assigned ? `${assigned.to} is on it: ${says}` : `I'm on it: ${says}`"
      @click="ask"
    >
      <span v-if="assigned" class="block truncate">✓ {{ assigned.to }} is on it</span>
      <template v-else>I’m on it</template>
    </button>
    <ModalDialog :open="open" title="Who works on it" @close="open = false">
      <form @submit.prevent="assign">
        <p class="text-soft">{{ says }}</p>
        <p v-if="assigned" class="mt-2 text-sm">
          {{ assigned.to }} since <TimeText :at="assigned.at" /><template v-if="assigned.note">
            · “{{ assigned.note }}”</template
          >
        </p>
        <label class="mt-4 block text-sm font-medium" for="assign-to">Who (you, when left empty)</label>
        <input id="assign-to" v-model="to" class="field mt-1 w-full" autocomplete="off" />
        <label class="mt-3 block text-sm font-medium" for="assign-note">Note for the others (optional)</label>
        <input id="assign-note" v-model="note" class="field mt-1 w-full" autocomplete="off" />
        <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
        <div class="mt-5 flex justify-end gap-2">
          <button type="button" class="button" @click="open = false">Cancel</button>
          <button v-if="assigned" type="button" class="button" :disabled="busy" @click="remove">
            Nobody is on it any more
          </button>
          <button type="submit" class="button button-main" :disabled="busy">
            {{ assigned ? 'Save' : 'I’m on it' }}
          </button>
        </div>
      </form>
    </ModalDialog>
  </div>
</template>
