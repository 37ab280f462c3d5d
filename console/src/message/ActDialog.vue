<script setup lang="ts">
/** Resends or discards one message. The plan of a resend is shown first. If a completed step needs a decision, the dialog asks. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { AnswerRule, MessageAct, MessageState, ProblemCode } from '../api/schema'
import type { ActPlan, Message } from '../api/schema'
import ReasonDialog from '../ui/ReasonDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import PlanNote from './PlanNote.vue'

const props = defineProps<{ act: MessageAct | undefined; message: Message }>()
defineEmits<{ close: []; acted: [] }>()
/** Why the plan could not be made. */
const trouble = shallowRef<Trouble>()
/** The service asks what to do about completed steps. */
const asks = ref(false)
const plan = shallowRef<ActPlan>()
const discards = computed(() => props.act === MessageAct.discard)
const failsAgain = computed(() => plan.value?.next.state === MessageState.failed)
watch(
  () => props.act,
  async (act) => {
    trouble.value = undefined
    asks.value = false
    plan.value = undefined
    if (act !== MessageAct.resend) return
    try {
      const { plan: found } = await send(act, '', true)
      if (props.act === act) plan.value = found ?? undefined
    } catch (error) {
      trouble.value = troubleOf(error)
    }
  },
  // A key in a list opens the page with the dialog already open.
  { immediate: true },
)

async function send(act: MessageAct, why: string, preview: boolean, answers = AnswerRule.ask) {
  try {
    const params = { path: { id: props.message.id } }
    return await asked(api.POST('/api/messages/{id}/acts', { params, body: { act, why, answers, preview } }))
  } catch (error) {
    const { code } = troubleOf(error)
    asks.value = code === ProblemCode.other_request || code === ProblemCode.step_not_passed
    throw error
  }
}
const carryOut = (answers?: AnswerRule) => async (why: string) => {
  trouble.value = undefined
  return props.act && send(props.act, why, false, answers)
}
</script>

<template>
  <ReasonDialog
    :open="act !== undefined"
    :title="`${discards ? 'Discard' : 'Resend'} ${message.key || 'this message'}`"
    :verb="discards ? 'Discard' : failsAgain ? 'Resend anyway' : 'Resend'"
    :optional="!discards"
    :grave="discards"
    :calm="failsAgain"
    :act="carryOut()"
    @close="$emit('close')"
    @done="$emit('acted')"
  >
    <p class="text-soft">
      <template v-if="discards">
        It stops for good and sends nothing more. Its history stays. The reason is shown with the message.
      </template>
      <template v-else-if="message.state === MessageState.done">
        It runs again from its document. Completed steps are skipped unless their request has changed.
      </template>
      <template v-else
        >It continues at the step where it stopped, with the flow as it is now. Completed steps are skipped unless their
        request has changed.</template
      >
    </p>
    <PlanNote v-if="plan" :plan="plan" />
    <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
    <template v-if="asks" #acts="{ carryOut: decide, busy }">
      <button type="button" class="button" :disabled="busy" @click="decide(carryOut(AnswerRule.keep))">
        Keep the earlier answer
      </button>
      <button type="button" class="button button-main" :disabled="busy" @click="decide(carryOut(AnswerRule.again))">
        Send again
      </button>
    </template>
  </ReasonDialog>
</template>
