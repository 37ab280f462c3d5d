<script setup lang="ts">
/** The current release, what each release changed, and rollback to an earlier one. */
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, asked } from '../api/client'
import type { Release } from '../api/schema'
import { useAsked } from '../api/useAsked'
import { useLive } from '../live/useLive'
import { refreshWorkspace } from '../shell/useWorkspace'
import EmptyState from '../ui/EmptyState.vue'
import ReasonDialog from '../ui/ReasonDialog.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useEvery } from '../ui/useEvery'
import { count } from '../words/format'
import ReleaseDetail from './ReleaseDetail.vue'

const route = useRoute()
const router = useRouter()
const {
  known: releases,
  trouble,
  again,
} = useAsked(
  (signal) => asked(api.GET('/api/releases', { signal })),
  () => ['releases'],
)
const chosen = computed(
  () => releases.value?.find((one) => `${one.release}` === route.query.release) ?? releases.value?.[0],
)
useLive({ anew: () => void again() })
onMounted(again)
useEvery(5000, again)

const back = ref(0)
async function rollBack(why: string) {
  const params = { path: { no: back.value } }
  const done: Release = await asked(api.POST('/api/releases/{no}/rollback', { params, body: { why } }))
  void refreshWorkspace()
  await again()
  void router.replace({ query: { release: done.release } })
}
</script>

<template>
  <div>
    <header class="mb-4 flex flex-wrap items-baseline gap-x-3">
      <h1 class="text-xl font-semibold">Releases</h1>
      <p class="text-sm text-soft">
        What the service runs, and what each release changed. <code>wirewatch deploy</code> makes the next one.
      </p>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="again" />
    <EmptyState v-if="releases && !releases.length" title="No releases yet">
      Give the service a workspace with <code>wirewatch deploy FOLDER</code>.
    </EmptyState>
    <div v-else-if="releases" class="grid items-start gap-4 lg:grid-cols-[14rem_minmax(0,1fr)]">
      <nav class="panel overflow-hidden" aria-label="Releases">
        <RouterLink
          v-for="one in releases"
          :key="one.release"
          :to="{ query: { release: one.release } }"
          class="block border-b border-line px-3 py-2 text-sm last:border-0 hover:bg-sunken"
          :class="one.release === chosen?.release && 'bg-sunken'"
          :aria-current="one.release === chosen?.release ? 'true' : undefined"
          :data-release="one.release"
        >
          <span class="flex items-baseline justify-between gap-2">
            <span class="font-medium">Release {{ one.release }}</span>
            <span v-if="one.current" class="shrink-0 text-done">✓ runs</span>
            <span v-else class="shrink-0 text-faint">{{ count(one.changes.length, 'file') }}</span>
          </span>
          <span v-if="one.says" class="line-clamp-2 text-soft">{{ one.says }}</span>
          <span class="block text-xs text-faint"><TimeText :at="one.at" />, by {{ one.by }}</span>
        </RouterLink>
      </nav>
      <ReleaseDetail v-if="chosen" :key="chosen.release" :release="chosen" @back="back = $event" />
    </div>
    <ReasonDialog
      :open="back > 0"
      :title="`Go back to release ${back}`"
      verb="Go back"
      :act="rollBack"
      @close="back = 0"
    >
      <p class="text-soft">
        Its files become a new release, which runs from now on. Running messages finish with the release they began
        with.
      </p>
    </ReasonDialog>
  </div>
</template>
