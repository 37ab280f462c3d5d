<script setup lang="ts">
/** One message: its history and acts. */
import { restStates } from '../words/states'
import { MessageAct, MessageState } from '../api/schema'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, asked } from '../api/client'
import { useAsked, useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'
import { titleOf, useWorkspace } from '../shell/useWorkspace'
import StateBadge from '../ui/StateBadge.vue'
import TermHelp from '../ui/TermHelp.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { lastList, neighbours } from '../messages/lastList'
import { whyOf } from '../messages/whyOf'
import { isTyping } from '../shell/shortcuts'
import { glossary, type Term } from '../words/glossary'
import ActDialog from './ActDialog.vue'
import AmendDialog from './AmendDialog.vue'
import ReceivedDetail from './ReceivedDetail.vue'
import RelatedList from './RelatedList.vue'
import StepDetail from './StepDetail.vue'
import StoryLine from './StoryLine.vue'
import { entries, firstShown } from './story'

const props = defineProps<{ id: string }>()
useWorkspace()
const route = useRoute()
const router = useRouter()
const {
  known: story,
  trouble,
  asking,
  again,
  forget,
} = useAsked(
  (signal) => asked(api.GET('/api/messages/{id}', { params: { path: { id: props.id } }, signal })),
  () => ['message', props.id],
)
const soon = useThrottled(() => void again(), 500)
useLive({
  pulse: ({ changes }) => {
    if (changes.some((change) => change.id === props.id)) soon()
  },
  anew: soon,
})

/** The entry the user chose; before that, the current step. */
const chosen = ref('')
const listed = computed(() => (story.value ? entries(story.value) : []))
const shown = computed(() => {
  const id = chosen.value || (story.value ? firstShown(listed.value, story.value) : '')
  return listed.value.find((entry) => entry.id === id) ?? listed.value[0]
})
watch(
  () => props.id,
  () => {
    forget()
    chosen.value = ''
    void again()
  },
  { immediate: true },
)

const message = computed(() => story.value?.message)
const stopped = computed(() => message.value?.state === MessageState.failed)
/** A message that is still running cannot be resent. */
const resendable = computed(() => message.value !== undefined && restStates.includes(message.value.state))
/** An explanation of the state, if one is needed. */
const why = computed(() => {
  if (!message.value || message.value.state === MessageState.done) return ''
  return message.value.state === MessageState.waiting ? whyOf(message.value) : message.value.says
})
const act = ref<MessageAct>()
const amending = ref(false)
function begin(wanted: unknown) {
  if (wanted === MessageAct.amend && stopped.value) amending.value = true
  if (wanted === MessageAct.resend && resendable.value) act.value = MessageAct.resend
}
// A list opens a message with the act of the key that was pressed.
// An answer from the cache may have another state, so the next answer decides.
watch([message, asking], ([now, busy]) => {
  if (!now || busy || !route.query.act) return
  begin(route.query.act)
  void router.replace(route.path)
})

const beside = computed(() => neighbours(lastList.value.ids, props.id))
function onKey(event: KeyboardEvent) {
  if (isTyping(event.target) || event.ctrlKey || event.metaKey || event.altKey) return
  const to = { j: beside.value?.after, k: beside.value?.before }[event.key]
  if (to) void router.push(`/messages/${to}`)
  begin({ a: MessageAct.amend, r: MessageAct.resend }[event.key])
}
onMounted(() => addEventListener('keydown', onKey))
onBeforeUnmount(() => removeEventListener('keydown', onKey))
const help = computed(() => {
  if (!story.value || !message.value) return ''
  const { state } = message.value
  return story.value.advice || (state in glossary ? glossary[state as Term] : '')
})
function acted() {
  act.value = undefined
  amending.value = false
  // The step that failed shows its next attempt.
  chosen.value = message.value?.step ? `step-${message.value.step}` : ''
  void again()
}
</script>

<template>
  <div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="again" />
    <template v-if="story && message">
      <header class="mb-4 flex flex-wrap items-start gap-x-4 gap-y-3">
        <div class="min-w-0 grow">
          <p class="text-sm text-faint">
            <RouterLink :to="`/messages?flow=${message.flow}`" class="hover:text-thread hover:underline">{{
              titleOf('flows', message.flow)
            }}</RouterLink>
            <template v-if="message.partner">
              ·
              <RouterLink :to="`/messages?partner=${message.partner}`" class="hover:text-thread hover:underline">{{
                titleOf('partners', message.partner)
              }}</RouterLink></template
            >
            ·
            <RouterLink to="/releases" class="hover:text-thread hover:underline" data-part="release"
              >release {{ story.release }}</RouterLink
            >
            <template v-if="story.release !== message.release">, arrived under {{ message.release }}</template>
          </p>
          <h1 class="flex flex-wrap items-center gap-3 text-xl font-semibold">
            {{ message.key || message.id }}
            <StateBadge :state="message.state" data-part="state" />
            <span v-if="message.result" class="text-base font-normal text-soft">
              <TermHelp term="result" word="in the target" />:
              <strong class="font-semibold text-ink" data-part="result">{{ message.result }}</strong>
            </span>
          </h1>
          <p v-if="why" class="mt-1 font-medium" data-part="says">{{ why }}</p>
          <p class="max-w-3xl text-sm text-soft">
            {{ help }}
            <template v-if="message.due">The next try is <TimeText :at="message.due" as="distance" />.</template>
          </p>
        </div>
        <nav v-if="beside" class="flex items-center gap-1 text-sm text-soft" aria-label="In the list">
          <component
            :is="to ? 'RouterLink' : 'span'"
            v-for="[name, mark, to] in [
              ['Previous message', '‹', beside.before],
              ['Next message', '›', beside.after],
            ]"
            :key="name"
            :to="to && `/messages/${to}`"
            class="button px-2!"
            :class="!to && 'opacity-40'"
            :aria-label="name"
            :aria-disabled="!to"
            >{{ mark }}</component
          >
          <RouterLink :to="lastList.address" class="link ml-1">{{ beside.place }}</RouterLink>
        </nav>
        <div class="flex flex-wrap gap-2" role="group" aria-label="Acts">
          <button
            v-if="stopped"
            type="button"
            class="button"
            :class="story.helps === MessageAct.amend && 'button-main'"
            @click="amending = true"
          >
            Amend…
          </button>
          <button
            v-if="resendable"
            type="button"
            class="button"
            :class="story.helps === MessageAct.resend && 'button-main'"
            @click="act = MessageAct.resend"
          >
            Resend…
          </button>
          <button
            v-if="message.state !== MessageState.done && message.state !== MessageState.discarded"
            type="button"
            class="button button-grave"
            @click="act = MessageAct.discard"
          >
            Discard…
          </button>
        </div>
      </header>
      <div class="grid items-start gap-4 lg:grid-cols-[17rem_minmax(0,1fr)]">
        <div class="space-y-4">
          <StoryLine v-model="chosen" :entries="listed" :shown="shown?.id ?? ''" />
          <RelatedList :story="story" />
        </div>
        <section class="panel min-w-0 overflow-hidden" aria-label="Details of the step">
          <StepDetail v-if="shown?.step" :key="shown.id" :story="story" :step="shown.step" />
          <div v-else-if="shown?.act" class="p-4">
            <p class="font-medium">{{ shown.title }}</p>
            <p class="text-soft">
              <TimeText :at="shown.at" /><template v-if="shown.says"> · “{{ shown.says }}”</template>
            </p>
          </div>
          <ReceivedDetail v-else :story="story" />
        </section>
      </div>
      <ActDialog :act="act" :message="message" @close="act = undefined" @acted="acted" />
      <AmendDialog :open="amending" :message="message" @close="amending = false" @acted="acted" />
    </template>
  </div>
</template>
