<script setup lang="ts">
/** Every design token and every component in every state. */
import { ref } from 'vue'
import { Trouble } from '../api/client'
import { FindingSeverity, MessageAct, MilestoneMark, OrderState, StepVerb } from '../api/schema'
import type { FlowLine as FlowLineData, FlowStep, Order } from '../api/schema'
import OrderLine from '../orders/OrderLine.vue'
import FlowLine from '../overview/FlowLine.vue'
import EmptyState from '../ui/EmptyState.vue'
import PickList from '../ui/PickList.vue'
import StateBadge from '../ui/StateBadge.vue'
import TermHelp from '../ui/TermHelp.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { glossary } from '../words/glossary'
import { holdStates, messageStates, orderStates, verdicts } from '../words/states'

const grounds = ['ground', 'surface', 'raised', 'sunken', 'line', 'line-strong']
const inks = [
  'ink',
  'soft',
  'faint',
  'thread',
  'thread-deep',
  'running',
  'waiting',
  'retrying',
  'failed',
  'done',
  'ended',
]
const sizes = ['text-2xs', 'text-xs', 'text-sm', 'text-base', 'text-lg', 'text-xl']
const picked = ref('')
const finding = {
  severity: FindingSeverity.error,
  code: '',
  file: '',
  line: 3,
  column: 9,
  length: 4,
  source: '',
  says: 'a date is missing',
  help: 'write CCYYMMDD',
  accepted: null,
}
const trouble = new Trouble('the amended document has 1 fault; nothing was done', 422, '', [finding])
const now = new Date().toISOString()

const step = (step: string, more: Partial<FlowStep> = {}): FlowStep => ({
  step,
  way: '',
  verb: StepVerb.map,
  what: 'a-map',
  connection: null,
  on_hold: null,
  stuck_since: null,
  next_due: null,
  passed_minute: 42,
  passed_slots: [],
  median_us: 14_000,
  slow_us: 90_000,
  running: 0,
  waiting: 0,
  retrying: 0,
  failed: 0,
  affects: [],
  ...more,
})
const line = (title: string, steps: FlowStep[]): FlowLineData => ({
  flow: title,
  title,
  intakes: [],
  paused: null,
  recorded: null,
  steps,
  done_minute: 42,
  done_slots: [2, 4, 3, 5, 4, 4, 3, 2, 5, 4, 4, 2],
})
const busy = line('Every step', [
  step('', { median_us: null }),
  step('passes', { running: 3 }),
  step('retries', { verb: StepVerb.call, what: 'POST /orders', retrying: 2, next_due: now }),
  step('waits', { verb: StepVerb.call, waiting: 34 }),
  step('fails', { failed: 3 }),
])
const long = line('Twenty steps', [step(''), ...Array.from({ length: 20 }, (_, n) => step(`step-${n + 1}`))])
const still = line('Quiet', [
  step('', { passed_minute: 0 }),
  step('one', { passed_minute: 0 }),
  step('two', { passed_minute: 0 }),
])
still.done_minute = 0
still.done_slots = []
const reasons = [
  {
    id: '1',
    flow: 'Every step',
    step: 'fails',
    connection: '',
    code: 'refused-422',
    says: 'unknown item on row 2',
    advice: '',
    helps: MessageAct.resend,
    messages: 3,
    first_seen: null,
  },
]
const order: Order = {
  plan: '',
  partner: '',
  key: 'MF-20501',
  state: OrderState.trouble,
  begun: now,
  changed: now,
  says: '',
  failed_since: null,
  milestones: [
    { name: 'received', mark: MilestoneMark.begins, at: now, after_ms: null, times: 1, message: null },
    { name: 'acknowledged', mark: MilestoneMark.passes, at: now, after_ms: 420, times: 1, message: null },
    { name: 'refused', mark: MilestoneMark.trouble, at: now, after_ms: 1900, times: 2, message: null },
    { name: 'booked', mark: MilestoneMark.ends, at: null, after_ms: null, times: 0, message: null },
  ],
}
</script>

<template>
  <div class="space-y-8">
    <header>
      <h1 class="text-xl font-semibold">Design system</h1>
      <p class="text-soft">Every token and component of this console, in each of its states.</p>
    </header>
    <section aria-labelledby="type">
      <h2 id="type" class="heading mb-2">Type: Recursive, one face for words, figures and code</h2>
      <p v-for="size in sizes" :key="size" :class="size">
        Quillhaven books 1,204 orders, 3,871 lines — <code>BEG*00*SA*MF-20501</code>
        <span class="ml-2 text-2xs text-faint">{{ size }}</span>
      </p>
    </section>
    <section aria-labelledby="colours">
      <h2 id="colours" class="heading mb-2">Grounds and inks</h2>
      <ul class="mb-3 flex flex-wrap gap-2">
        <li
          v-for="name in grounds"
          :key="name"
          class="w-28 rounded-md border border-line p-2 text-2xs"
          :style="{ background: `var(--color-${name})` }"
        >
          <span class="rounded-sm bg-surface px-1">{{ name }}</span>
        </li>
      </ul>
      <ul class="panel flex flex-wrap gap-x-5 gap-y-1 p-3">
        <li v-for="name in inks" :key="name" class="font-medium" :style="{ color: `var(--color-${name})` }">
          {{ name }}
        </li>
      </ul>
    </section>
    <section aria-labelledby="states">
      <h2 id="states" class="heading mb-2">States: a mark and a word, not colour alone</h2>
      <p class="flex flex-wrap gap-2">
        <StateBadge
          v-for="state in [...new Set([...messageStates, ...verdicts, ...orderStates, ...holdStates])]"
          :key="state"
          :state="state"
        />
      </p>
    </section>
    <section aria-labelledby="buttons">
      <h2 id="buttons" class="heading mb-2">Buttons, fields, lists</h2>
      <p class="flex flex-wrap items-center gap-2">
        <button type="button" class="button button-main">Main</button>
        <button type="button" class="button">Ordinary</button>
        <button type="button" class="button button-grave">Grave</button>
        <button type="button" class="button button-plain">Plain</button>
        <button type="button" class="button button-main" disabled>Main, not now</button>
        <button type="button" class="button" disabled>Not now</button>
        <label class="sr-only" for="a-field">A field</label>
        <input id="a-field" class="field" placeholder="A field" />
        <PickList
          v-model="picked"
          label="Pick"
          :options="[
            { value: 'a', text: 'one' },
            { value: 'b', text: 'another' },
          ]"
        />
        <a href="#type" class="link">A link</a>
      </p>
    </section>
    <section aria-labelledby="lines" class="space-y-3">
      <h2 id="lines" class="heading mb-2">Overview</h2>
      <FlowLine :line="busy" :connections="[]" :reasons="reasons" />
      <FlowLine :line="long" :connections="[]" :reasons="[]" />
      <FlowLine :line="still" :connections="[]" :reasons="[]" />
      <FlowLine :line="{ ...still, title: 'Quiet among many' }" :connections="[]" :reasons="[]" compact />
    </section>
    <section aria-labelledby="order" class="panel p-4">
      <h2 id="order" class="heading mb-2">An order’s milestones</h2>
      <OrderLine :order="order" large />
    </section>
    <section aria-labelledby="notes" class="space-y-3">
      <h2 id="notes" class="heading mb-2">Notes and empty places</h2>
      <TroubleNote :trouble="trouble" @again="() => {}" />
      <div class="panel">
        <EmptyState title="No arrivals yet">What would fill this place, and how.</EmptyState>
      </div>
    </section>
    <section aria-labelledby="words">
      <h2 id="words" class="heading mb-2">Words</h2>
      <p class="mb-2 text-sm text-soft">
        Terms are explained where they first stand: <TermHelp term="failed" />. Times are local, exact on hover:
        <TimeText :at="now" />.
      </p>
      <dl class="grid grid-cols-[max-content_1fr] gap-x-5 gap-y-1 text-sm">
        <template v-for="(says, term) in glossary" :key="term">
          <dt class="font-medium">{{ term }}</dt>
          <dd class="text-soft">{{ says }}</dd>
        </template>
      </dl>
    </section>
  </div>
</template>
