<script setup lang="ts">
/** The maps of the running release. */
import { onMounted } from 'vue'
import { api, asked } from '../api/client'
import { useAsked } from '../api/useAsked'
import EmptyState from '../ui/EmptyState.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { titleOf, useWorkspace } from '../shell/useWorkspace'
import { count, listed } from '../words/format'

useWorkspace()
const {
  known: maps,
  trouble,
  again,
} = useAsked(
  (signal) => asked(api.GET('/api/maps', { signal })),
  () => ['maps'],
)
onMounted(again)
</script>

<template>
  <div>
    <header class="mb-4">
      <h1 class="text-xl font-semibold">Maps</h1>
      <p class="text-sm text-soft">Rules that make one document from another. Open a map to run it on a sample.</p>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="again" />
    <ul v-if="maps?.length" class="panel divide-y divide-line">
      <li v-for="map in maps" :key="map.name">
        <RouterLink
          :to="`/maps/${encodeURIComponent(map.name)}`"
          class="flex flex-wrap items-baseline gap-x-4 px-4 py-2.5 hover:bg-sunken"
          :data-map="map.name"
        >
          <span class="min-w-56 font-medium">{{ map.name }}</span>
          <span class="font-mono text-sm">{{ map.from }} <span class="text-faint">→</span> {{ map.to }}</span>
          <span v-if="map.draft" class="text-sm text-soft">has a draft</span>
          <span class="ml-auto text-sm text-soft" data-part="used-by">{{
            map.used_by.length
              ? `used by ${listed(map.used_by.map((flow) => titleOf('flows', flow)))}`
              : 'not used by a flow'
          }}</span>
          <span class="w-56 truncate text-right text-sm text-soft" data-part="changed"
            ><template v-if="map.changed"
              >changed <TimeText :at="map.changed.at" as="distance" /> by {{ map.changed.by }}</template
            ></span
          >
          <span class="w-36 text-right text-sm text-soft"
            >{{ count(map.rules, 'rule') }}, {{ count(map.cases, 'case') }}</span
          >
        </RouterLink>
      </li>
    </ul>
    <EmptyState v-else-if="maps" title="No maps yet">
      <code>wirewatch map propose FROM TO</code> proposes a first one.
    </EmptyState>
  </div>
</template>
