<script setup lang="ts">
/** Resend or discard one message. Where a resend meets an answer that another request got, it asks what to do. */
import { ref, shallowRef, watch } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { AnswerRule, MessageAct, MessageState, ProblemCode } from '../api/schema'
import type { Message } from '../api/schema'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'

const props = defineProps<{ act: MessageAct | undefined; message: Message }>()
const emit = defineEmits<{ close: []; acted: [] }>()
const why = ref('')
const busy = ref(false)
const trouble = shallowRef<Trouble>()
/** The service has asked whether to keep an earlier answer. */
const asks = ref(false)
watch(
  () => props.act,
  () => {
    why.value = ''
    trouble.value = undefined
    asks.value = false
  },
)

async function carryOut(answers: AnswerRule = AnswerRule.ask) {
  if (!props.act) return
  busy.value = true
  trouble.value = undefined
  try {
    const params = { path: { id: props.message.id } }
    await asked(api.POST('/api/messages/{id}/acts', { params, body: { act: props.act, why: why.value, answers } }))
    emit('acted')
  } catch (error) {
    trouble.value = troubleOf(error)
    asks.value = trouble.value.code === ProblemCode.other_request
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <ModalDialog
    :open="act !== undefined"
    :title="
      act === MessageAct.discard
        ? `Discard ${message.key || 'this message'}`
        : `Resend ${message.key || 'this message'}`
    "
    @close="$emit('close')"
  >
    <form @submit.prevent="carryOut()">
      <p class="text-soft">
        <template v-if="act === MessageAct.discard">
          It does not go on, and nothing is sent for it. Its story stays. Say why, for whoever looks later.
        </template>
        <template v-else-if="message.state === MessageState.done">
          It runs again from its document. Completed steps are skipped unless their request has changed.
        </template>
        <template v-else
          >It continues at the step where it stopped. Completed steps are skipped unless their request has
          changed.</template
        >
      </p>
      <label class="mt-4 block text-sm font-medium" for="why"
        >Why{{ act === MessageAct.discard ? '' : ' (if it should be known)' }}</label
      >
      <input
        id="why"
        v-model="why"
        class="field mt-1 w-full"
        :required="act === MessageAct.discard"
        autocomplete="off"
      />
      <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
      <div class="mt-5 flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">Cancel</button>
        <template v-if="asks">
          <button type="button" class="button" :disabled="busy" @click="carryOut(AnswerRule.keep)">
            Keep the earlier answer
          </button>
          <button type="button" class="button button-main" :disabled="busy" @click="carryOut(AnswerRule.again)">
            Ask again
          </button>
        </template>
        <button
          v-else
          type="submit"
          class="button"
          :class="act === MessageAct.discard ? 'button-grave' : 'button-main'"
          :disabled="busy"
        >
          {{ act === MessageAct.discard ? 'Discard' : 'Resend' }}
        </button>
      </div>
    </form>
  </ModalDialog>
</template>
