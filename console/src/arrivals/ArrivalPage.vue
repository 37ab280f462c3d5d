<script setup lang="ts">
/** One arrival: its bytes, its ledger entries and its messages. */
import { Direction, DocumentForm, Verdict } from '../api/schema'
import type { EdiLook } from '../api/schema'
import { computed, ref, shallowRef, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, asked } from '../api/client'
import { useAsked, useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'
import { titleOf, useWorkspace } from '../shell/useWorkspace'
import CodeView from '../ui/CodeView.vue'
import ReasonDialog from '../ui/ReasonDialog.vue'
import StateBadge from '../ui/StateBadge.vue'
import TermHelp from '../ui/TermHelp.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { bytes, count } from '../words/format'
import RawLines from '../x12/RawLines.vue'
import { flattened } from './flattened'
import { glossary, type Term } from '../words/glossary'

const props = defineProps<{ id: string }>()
const router = useRouter()
useWorkspace()
const {
  known: story,
  trouble,
  again,
} = useAsked(
  (signal) => asked(api.GET('/api/arrivals/{id}', { params: { path: { id: props.id } }, signal })),
  () => ['arrival', props.id],
)
/** Messages without acknowledgments, which are in the ledger entries. */
const messages = computed(() => {
  const acknowledgments = new Set(story.value?.ledger.map((entry) => entry.message))
  return story.value?.messages.filter((one) => !acknowledgments.has(one.id)) ?? []
})
/** An X12 document that was not received shows its segments with what is wrong in each. */
const look = shallowRef<EdiLook>()
const wrong = computed(
  () =>
    story.value?.form === DocumentForm.x12 &&
    [Verdict.failed, Verdict.rejected].includes(story.value.arrival.verdict) &&
    story.value.arrival.id,
)
watch(wrong, async (arrival) => {
  look.value = undefined
  if (!arrival) return
  // One that is too large for the view is shown as it is.
  const read = await asked(api.POST('/api/edi', { body: { document: '', arrival, partner: '' } })).catch(
    () => undefined,
  )
  if (wrong.value === arrival && read?.lines.length) look.value = read
})
const properties = computed(() => flattened(story.value?.headers ?? {}))
const soon = useThrottled(() => void again(), 1000)
useLive({
  pulse: ({ changes }) => {
    const ours = new Set(story.value?.messages.map((one) => one.id))
    if (changes.some((change) => change.id === props.id || ours.has(change.id ?? ''))) soon()
  },
  anew: soon,
})
watch(() => props.id, again, { immediate: true })

/** The act of the open dialog. */
const act = ref<'accept' | 'discard' | ''>('')
async function carryOut(why: string) {
  const request = { params: { path: { id: props.id } }, body: { why } }
  if (act.value === 'discard') {
    await asked(api.POST('/api/arrivals/{id}/discard', request))
    return again()
  }
  const handed = await asked(api.POST('/api/arrivals/{id}/accept', request))
  return router.push(`/arrivals/${handed.arrival}`)
}
</script>

<template>
  <div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="again" />
    <template v-if="story">
      <header class="mb-4 flex flex-wrap items-start gap-4">
        <div class="min-w-0 grow">
          <p class="text-sm text-faint">
            <RouterLink to="/arrivals" class="hover:text-thread hover:underline">Arrivals</RouterLink> ·
            {{ titleOf('connections', story.arrival.connection) }}
            <template v-if="story.arrival.partner"> · {{ titleOf('partners', story.arrival.partner) }}</template>
          </p>
          <h1 class="flex flex-wrap items-center gap-3 text-xl font-semibold">
            <span class="break-all">{{ story.arrival.name }}</span> <StateBadge :state="story.arrival.verdict" />
          </h1>
          <p v-if="story.arrival.says" class="mt-1 font-medium">{{ story.arrival.says }}</p>
          <p class="text-sm text-soft">
            {{
              glossary[story.arrival.verdict === Verdict.failed ? 'failed_arrival' : (story.arrival.verdict as Term)] ??
              ''
            }}
            Received <TimeText :at="story.arrival.received" />, {{ bytes(story.arrival.size)
            }}<template v-if="story.arrival.by">, submitted by {{ story.arrival.by }}</template
            >.
          </p>
        </div>
        <RouterLink v-if="story.form === DocumentForm.x12" :to="`/x12?arrival=${story.arrival.id}`" class="button"
          >Open as X12</RouterLink
        >
        <button
          v-if="[Verdict.duplicate, Verdict.rejected, Verdict.failed].includes(story.arrival.verdict)"
          type="button"
          class="button"
          @click="act = 'accept'"
        >
          Accept it…
        </button>
        <button v-if="story.arrival.verdict === Verdict.failed" type="button" class="button" @click="act = 'discard'">
          Discard…
        </button>
      </header>
      <div class="grid items-start gap-4 lg:grid-cols-[17rem_minmax(0,1fr)]">
        <div class="panel space-y-4 p-3 text-sm">
          <section>
            <h2 class="heading mb-1">
              {{ count(story.arrival.messages, 'message') }}
            </h2>
            <ul class="max-h-96 space-y-1 overflow-auto" tabindex="0" aria-label="Messages made from it">
              <li v-for="one in messages" :key="one.id" class="flex items-center gap-2">
                <RouterLink :to="`/messages/${one.id}`" class="link truncate">{{ one.key || one.id }}</RouterLink>
                <StateBadge :state="one.state" class="ml-auto" />
              </li>
            </ul>
            <RouterLink
              v-if="story.arrival.messages > messages.length"
              :to="`/messages?arrival=${story.arrival.id}`"
              class="link"
              >All of them</RouterLink
            >
          </section>
          <section v-if="properties.length" data-part="properties">
            <h2 class="heading mb-1">Headers and properties</h2>
            <dl class="space-y-0.5">
              <div v-for="[name, value] in properties" :key="name" class="flex gap-2">
                <dt class="shrink-0 text-faint">{{ name }}</dt>
                <dd class="min-w-0 grow text-right break-words">{{ value }}</dd>
              </div>
            </dl>
          </section>
          <section v-if="story.ledger.length">
            <h2 class="heading mb-1">Ledger</h2>
            <ul class="space-y-1.5">
              <li v-for="(entry, n) in story.ledger" :key="n">
                <template v-if="entry.direction === Direction.in">
                  <TermHelp term="interchange" /> {{ entry.control }} from {{ entry.sender }}
                </template>
                <template v-else>
                  <TermHelp term="acknowledgment" word="997" /> {{ entry.control }} to {{ entry.receiver }}, answers
                  {{ entry.answers }}
                  <RouterLink v-if="entry.message" :to="`/messages/${entry.message}`" class="link">see it</RouterLink>
                </template>
              </li>
            </ul>
          </section>
          <section v-if="story.acts.length">
            <h2 class="heading mb-1">Acts of people</h2>
            <p v-for="(act, n) in story.acts" :key="n">
              {{ act.act }} by {{ act.by }}, <TimeText :at="act.at" /><br /><span class="text-soft">{{ act.why }}</span>
            </p>
          </section>
        </div>
        <div v-if="look">
          <RawLines :lines="look.lines" />
          <p v-for="says in look.says" :key="says" class="mt-2 text-sm text-failed">{{ says }}</p>
        </div>
        <CodeView
          v-else
          :model-value="story.text"
          :form="story.form"
          label="The received bytes"
          class="panel h-[calc(100vh-14rem)] min-h-80 overflow-hidden"
        >
          <template #title>
            <span class="heading">As received</span>
            <span v-if="story.cut" class="text-faint">the start; </span>
            <a :href="`/api/arrivals/${story.arrival.id}/bytes`" :download="story.arrival.name" class="link"
              >download</a
            >
          </template>
        </CodeView>
      </div>
      <ReasonDialog
        :open="act !== ''"
        :title="act === 'discard' ? `Discard ${story.arrival.name}` : 'Accept it'"
        :verb="act === 'discard' ? 'Discard' : 'Accept it'"
        :grave="act === 'discard'"
        :act="carryOut"
        @close="act = ''"
      >
        <p v-if="act === 'discard'" class="text-soft">
          No message will be made from it, and it no longer needs attention. Its bytes stay stored. The reason is shown
          with the arrival.
        </p>
        <p v-else class="text-soft">
          Its bytes become a new arrival, which is not checked for duplicates. Orders in it may be booked a second time.
        </p>
      </ReasonDialog>
    </template>
  </div>
</template>
