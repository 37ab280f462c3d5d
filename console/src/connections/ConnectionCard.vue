<script setup lang="ts">
import { ArrowTopRightOnSquareIcon } from '@heroicons/vue/16/solid'
import { computed, ref, shallowRef } from 'vue'
import { api, asked } from '../api/client'
import { ConnectionType, HoldState, RepeatType } from '../api/schema'
import type { ConnectionView, Tested } from '../api/schema'
import { titleOf, useWorkspace } from '../shell/useWorkspace'
import ReasonDialog from '../ui/ReasonDialog.vue'
import StateBadge from '../ui/StateBadge.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAct } from '../ui/useAct'
import { count } from '../words/format'
import QueueList from './QueueList.vue'
import WebhookDetail from './WebhookDetail.vue'

const props = defineProps<{ connection: ConnectionView }>()
const emit = defineEmits<{ changed: [] }>()
const workspace = useWorkspace()
const tested = shallowRef<Tested>()
const { busy, trouble, carryOut } = useAct(() => emit('changed'))
const holding = ref(false)
const testing = ref(false)
const params = () => ({ path: { name: props.connection.name } })

const test = () =>
  carryOut(async () => {
    tested.value = undefined
    testing.value = true
    try {
      tested.value = await asked(api.POST('/api/connections/{name}/test', { params: params() }))
    } finally {
      testing.value = false
    }
  })
const probe = () => carryOut(() => asked(api.POST('/api/connections/{name}/probe', { params: params() })))
const resume = () => carryOut(() => asked(api.POST('/api/connections/{name}/resume', { params: params() })))
const hold = (why: string) => asked(api.POST('/api/connections/{name}/hold', { params: params(), body: { why } }))

const repeats: Record<string, string> = {
  key: 'Idempotent: the receiver ignores repeats of the same key.',
  safe: 'Safe: a repeated request changes nothing.',
  never: 'Not idempotent: after a crash during a request, a person decides.',
}
const repeated = computed(() => {
  if (props.connection.kind !== ConnectionType.amqp) return repeats[props.connection.repeat] ?? props.connection.repeat
  return props.connection.repeat === RepeatType.never
    ? 'Not repeated: if it is unknown whether a message was sent, a person decides.'
    : 'Sent at least once: a repeated message has the same message id, so that the receiver can ignore it.'
})
</script>

<template>
  <article
    class="panel flex flex-col p-4"
    :data-connection="connection.name"
    :data-on-hold="!!connection.on_hold"
    :aria-labelledby="`title-${connection.name}`"
  >
    <header class="flex items-start gap-3">
      <div class="min-w-0 grow">
        <h2 :id="`title-${connection.name}`" class="truncate text-lg font-semibold">{{ connection.title }}</h2>
        <p class="truncate font-mono text-xs text-faint" :title="connection.place">
          {{ connection.kind }} · {{ connection.place }}
        </p>
      </div>
      <StateBadge :state="connection.on_hold ? HoldState.on_hold : HoldState.in_use" />
    </header>
    <div
      v-if="connection.on_hold"
      class="mt-3 rounded-md px-3 py-2 text-sm"
      style="background: color-mix(in oklab, var(--color-waiting) 10%, transparent)"
    >
      <p class="font-medium" data-part="says">{{ connection.on_hold.says }}</p>
      <p class="text-soft">
        {{ connection.on_hold.by ? `Put on hold by ${connection.on_hold.by}` : 'On hold' }} since
        <TimeText :at="connection.on_hold.since" />;
        <RouterLink :to="`/messages?state=waiting,running&connection=${connection.name}`" class="link">{{
          count(connection.on_hold.waiting, 'message waits', 'messages wait')
        }}</RouterLink>.
        <template v-if="connection.on_hold.next_try"
          >Next probe <TimeText :at="connection.on_hold.next_try" as="distance" />.</template
        >
        <template v-else>Nothing is sent or received until it is resumed.</template>
      </p>
    </div>
    <dl class="mt-3 grid grid-cols-[max-content_1fr] gap-x-4 gap-y-1 text-sm">
      <dt class="text-faint">Used by</dt>
      <dd>
        <template v-for="(user, n) in connection.used_by" :key="user">
          <template v-if="n">, </template>
          <RouterLink
            v-if="workspace.flows.some((flow) => flow.name === user)"
            :to="`/messages?flow=${user}`"
            class="link"
            >{{ titleOf('flows', user) }}</RouterLink
          >
          <template v-else>{{ user }}</template>
        </template>
        <span v-if="!connection.used_by.length" class="text-soft">no flow</span>
      </dd>
      <dt class="text-faint">Does</dt>
      <dd>
        {{ [connection.takes && 'receives', connection.sends && 'sends'].filter(Boolean).join(', ') || '–' }}
      </dd>
      <template v-if="connection.notes">
        <dt class="text-faint">Notes</dt>
        <dd class="whitespace-pre-line text-soft">{{ connection.notes }}</dd>
      </template>
      <template v-if="connection.auth">
        <dt class="text-faint">Authentication</dt>
        <dd>{{ connection.auth }}</dd>
      </template>
      <template v-if="connection.sends">
        <dt class="text-faint">Concurrency</dt>
        <dd>
          {{ count(connection.in_flight, connection.kind === ConnectionType.amqp ? 'message' : 'request') }} at
          most<template v-if="connection.per_minute">, {{ connection.per_minute }} a minute, evenly spaced</template>
        </dd>
        <dt class="text-faint">Repeats</dt>
        <dd class="text-soft">{{ repeated }}</dd>
      </template>
    </dl>
    <QueueList v-if="connection.queues.length" :name="connection.name" :queues="connection.queues" />
    <section v-if="connection.files.length" class="mt-3 text-sm" :aria-labelledby="`files-${connection.name}`">
      <h3 :id="`files-${connection.name}`" class="heading mb-1">Files that cannot be read or archived</h3>
      <ul data-part="files">
        <li v-for="file in connection.files.slice(0, 5)" :key="file.file" class="border-t border-line py-1">
          <code class="break-all">{{ file.file || 'the folder itself' }}</code>
          <p class="text-xs text-failed"><span aria-hidden="true">▲ </span>{{ file.says }}</p>
        </li>
      </ul>
      <p v-if="connection.files.length > 5" class="border-t border-line py-1 text-soft">
        and {{ count(connection.files.length - 5, 'more file') }}; <code>wirewatch connection list</code> shows them
      </p>
    </section>
    <WebhookDetail
      v-if="connection.webhook"
      :name="connection.name"
      :webhook="connection.webhook"
      @changed="emit('changed')"
    />
    <p v-if="tested" role="status" class="mt-3 flex gap-2 text-sm" data-part="tested">
      <span aria-hidden="true" :class="tested.reached ? 'text-done' : 'text-failed'">{{
        tested.reached ? '✓' : '▲'
      }}</span>
      <span>{{ tested.says }}</span>
    </p>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
    <div class="mt-auto flex flex-wrap gap-2 pt-4">
      <button type="button" class="button" :disabled="busy" @click="test">
        {{ testing ? 'Testing…' : 'Test' }}
      </button>
      <template v-if="connection.on_hold">
        <button v-if="!connection.on_hold.by" type="button" class="button" :disabled="busy" @click="probe">
          Probe now
        </button>
        <button type="button" class="button button-main" :disabled="busy" @click="resume">Resume</button>
      </template>
      <button v-if="!connection.on_hold?.by" type="button" class="button" @click="holding = true">Hold…</button>
      <a
        v-if="connection.page"
        :href="connection.page"
        target="_blank"
        rel="noreferrer"
        class="button button-plain ml-auto"
      >
        Open its website<ArrowTopRightOnSquareIcon class="size-4" aria-hidden="true" />
      </a>
    </div>
    <ReasonDialog
      :open="holding"
      :title="`Hold ${connection.title}`"
      verb="Hold"
      :act="hold"
      @close="holding = false"
      @done="emit('changed')"
    >
      <p class="text-soft">
        Nothing is received from it or sent to it until somebody resumes it. Messages wait; nothing is lost.
      </p>
    </ReasonDialog>
  </article>
</template>
