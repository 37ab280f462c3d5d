<script setup lang="ts">
/** A dialog for an act that is recorded with its reason. It closes when the act is done; otherwise it says why it was not. */
import { ref, shallowRef, useId, watch } from 'vue'
import { type Trouble, troubleOf } from '../api/client'
import ModalDialog from './ModalDialog.vue'
import TroubleNote from './TroubleNote.vue'

type Act = (why: string) => Promise<unknown>
const props = defineProps<{
  open: boolean
  title: string
  /** Text of the button. */
  verb: string
  act: Act
  /** The reason may be left out. */
  optional?: boolean
  /** What it does cannot be undone. */
  grave?: boolean
  /** The act is not the one that is recommended. */
  calm?: boolean
}>()
const emit = defineEmits<{ close: []; done: [] }>()
const id = useId()
const why = ref('')
const busy = ref(false)
const trouble = shallowRef<Trouble>()
watch(
  () => props.open,
  () => {
    why.value = ''
    trouble.value = undefined
  },
)

async function carryOut(act: Act = props.act) {
  busy.value = true
  trouble.value = undefined
  try {
    await act(why.value)
    emit('done')
    emit('close')
  } catch (error) {
    trouble.value = troubleOf(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <ModalDialog :open="open" :title="title" @close="$emit('close')">
    <form @submit.prevent="carryOut()">
      <slot />
      <label class="mt-4 block text-sm font-medium" :for="id"
        >Reason {{ optional ? '(optional)' : '(shown to colleagues)' }}</label
      >
      <input :id="id" v-model="why" class="field mt-1 w-full" :required="!optional" autocomplete="off" />
      <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
      <div class="mt-5 flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">Cancel</button>
        <slot name="acts" :carry-out="carryOut" :busy="busy">
          <button
            type="submit"
            class="button"
            :class="grave ? 'button-grave' : !calm && 'button-main'"
            :disabled="busy"
          >
            {{ verb }}
          </button>
        </slot>
      </div>
    </form>
  </ModalDialog>
</template>
