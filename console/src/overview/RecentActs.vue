<script setup lang="ts">
/** What people did lately, in one line. */
import { onMounted } from 'vue'
import { api, asked } from '../api/client'
import { PersonAct } from '../api/schema'
import type { RecentAct } from '../api/schema'
import { useAsked } from '../api/useAsked'
import TimeText from '../ui/TimeText.vue'
import { useEvery } from '../ui/useEvery'
import { count } from '../words/format'

const { known: acts, again } = useAsked(
  (signal) => asked(api.GET('/api/acts', { signal })),
  () => ['acts'],
)
onMounted(again)
useEvery(5000, again)

/** What was done, before the name of what it was done to. */
const words: Record<PersonAct, string> = {
  resent: 'resent',
  amended: 'amended',
  discarded: 'discarded',
  accepted: 'accepted',
  paused: 'paused',
  resumed: 'resumed',
  recorded: 'changed the recording of',
  held: 'put on hold',
  probed: 'probed',
  called: 'called, in a dry run,',
  submitted: 'submitted a document to',
  assigned: 'assigned',
  unassigned: 'ended the work on',
  'secret-set': 'set a secret',
  'secret-changed': 'changed a secret',
  'secret-removed': 'removed a secret',
}
/** Acts on documents. The reason of every other act names its subject, unless the subject no longer exists. */
const toDocuments: PersonAct[] = [PersonAct.resent, PersonAct.amended, PersonAct.discarded, PersonAct.accepted]
const to = ({ message, arrival }: RecentAct) =>
  message ? `/messages/${message}` : arrival ? `/arrivals/${arrival}` : undefined
const name = ({ name, subjects, act }: RecentAct) =>
  name ?? (toDocuments.includes(act) ? count(subjects, 'document') : '')
const why = ({ why, name }: RecentAct) => (why && why !== name ? `: ${why}` : '')
</script>

<template>
  <p v-if="acts?.length" class="flex items-baseline gap-x-3 text-sm" data-part="recent-acts">
    <span class="heading w-20 shrink-0">People</span>
    <span class="flex min-w-0 flex-wrap gap-x-4 gap-y-0.5">
      <span v-for="(act, n) in acts.slice(0, 3)" :key="n" class="max-w-96 truncate text-soft" :title="act.why">
        <span class="font-medium text-ink">{{ act.by }}</span> {{ words[act.act] }}
        <RouterLink v-if="to(act)" :to="to(act)!" class="link">{{ name(act) }}</RouterLink><template v-else>{{
          name(act)
        }}</template>
        <TimeText :at="act.at" as="distance" />{{ why(act) }}
      </span>
    </span>
  </p>
</template>
