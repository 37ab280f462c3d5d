<script setup lang="ts">
/** Resends or discards one message. The plan of a resend is shown first. If a completed step needs a decision, the dialog asks. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { AnswerRule, MessageAct, MessageState, ProblemCode } from '../api/schema'
import type { ActPlan, Message } from '../api/schema'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import PlanNote from './PlanNote.vue'

const props = defineProps<{ act: MessageAct | undefined; message: Message }>()
const emit = defineEmits<{ close: []; acted: [] }>()
const why = ref('')
const busy = ref(false)
const trouble = shallowRef<Trouble>()
/** The service asks what to do about completed steps. */
const asks = ref(false)
const plan = shallowRef<ActPlan>()
const failsAgain = computed(() => plan.value?.next.state === MessageState.failed)
watch(
  () => props.act,
  (act) => {
    why.value = ''
    trouble.value = undefined
    asks.value = false
    plan.value = undefined
    if (act === MessageAct.resend) void send(act, true)
  },
)

async function send(act: MessageAct, preview: boolean, answers: AnswerRule = AnswerRule.ask) {
  busy.value = true
  trouble.value = undefined
  try {
    const params = { path: { id: props.message.id } }
    const body = { act, why: why.value, answers, preview }
    const result = await asked(api.POST('/api/messages/{id}/acts', { params, body }))
    if (!preview) emit('acted')
    else if (props.act === act) plan.value = result.plan ?? undefined
  } catch (error) {
    trouble.value = troubleOf(error)
    const { code } = trouble.value
    asks.value = code === ProblemCode.other_request || code === ProblemCode.step_not_passed
  } finally {
    busy.value = false
  }
}
const carryOut = (answers?: AnswerRule) => props.act && send(props.act, false, answers)
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
          It stops for good and sends nothing more. Its history stays. The reason is shown with the message.
        </template>
        <template v-else-if="message.state === MessageState.done">
          It runs again from its document. Completed steps are skipped unless their request has changed.
        </template>
        <template v-else
          >It continues at the step where it stopped, with the flow as it is now. Completed steps are skipped unless
          their request has changed.</template
        >
      </p>
      <PlanNote v-if="plan" :plan="plan" />
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
            Send again
          </button>
        </template>
        <button
          v-else
          type="submit"
          class="button"
          :class="act === MessageAct.discard ? 'button-grave' : !failsAgain && 'button-main'"
          :disabled="busy"
        >
          {{ act === MessageAct.discard ? 'Discard' : failsAgain ? 'Resend anyway' : 'Resend' }}
        </button>
      </div>
    </form>
  </ModalDialog>
</template>
