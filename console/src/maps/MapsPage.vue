<script setup lang="ts">
/** The maps of the running release. */
import { onMounted } from 'vue'
import { api, asked } from '../api/client'
import { useAsked } from '../api/useAsked'
import EmptyState from '../ui/EmptyState.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { titleOf, useWorkspace } from '../shell/useWorkspace'
import { listed } from '../words/format'

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
    <div v-if="maps?.length" class="panel overflow-x-auto">
      <table class="w-full text-sm">
        <caption class="sr-only">
          Maps
        </caption>
        <thead>
          <tr class="border-b border-line text-left">
            <th scope="col" class="heading px-3 py-2 pl-4">Map</th>
            <th scope="col" class="heading px-3">From and to</th>
            <th scope="col" class="heading px-3">Used by</th>
            <th scope="col" class="heading px-3">Last change</th>
            <th scope="col" class="heading px-3 text-right max-[899px]:hidden">Rules</th>
            <th scope="col" class="heading px-3 text-right">Cases</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="map in maps"
            :key="map.name"
            :data-map="map.name"
            class="border-b border-line/60 last:border-0 hover:bg-sunken"
          >
            <td class="py-2 pr-3 pl-4 font-medium whitespace-nowrap">
              <RouterLink :to="`/maps/${encodeURIComponent(map.name)}`" class="hover:text-thread hover:underline">{{
                map.name
              }}</RouterLink>
              <span v-if="map.draft" class="ml-2 font-normal text-soft">has a draft</span>
            </td>
            <td class="px-3 font-mono whitespace-nowrap">
              {{ map.from }} <span class="text-faint">→</span> {{ map.to }}
            </td>
            <td class="px-3 text-soft" data-part="used-by">
              {{ listed(map.used_by.map((flow) => titleOf('flows', flow))) || 'no flow' }}
            </td>
            <td class="px-3 text-soft min-[900px]:whitespace-nowrap" data-part="changed">
              <template v-if="map.changed"
                ><TimeText :at="map.changed.at" as="distance" /> by {{ map.changed.by }}</template
              ><template v-else>earlier</template>
            </td>
            <td class="px-3 text-right tabular-nums max-[899px]:hidden">{{ map.rules }}</td>
            <td class="px-3 text-right tabular-nums" :class="!map.cases && 'text-faint'">{{ map.cases || 'none' }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <EmptyState v-else-if="maps" title="No maps yet">
      <code>wirewatch map propose FROM TO</code> proposes a first one.
    </EmptyState>
  </div>
</template>
