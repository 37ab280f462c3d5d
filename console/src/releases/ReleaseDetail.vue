<script setup lang="ts">
/** One release: who deployed it, and each changed file before and after. */
import { computed, onMounted, ref } from 'vue'
import { api, asked } from '../api/client'
import { FileChangeKind } from '../api/schema'
import type { FileView, ReleaseView } from '../api/schema'
import { useAsked } from '../api/useAsked'
import CompareView from '../ui/CompareView.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'

const props = defineProps<{ release: ReleaseView }>()
defineEmits<{ /** Make this release run again. */ back: [release: number] }>()

const params = { path: { no: props.release.release } }
const { known: story, trouble, again } = useAsked(() => asked(api.GET('/api/releases/{no}', { params })))
onMounted(again)

const chosen = ref(props.release.changes[0]?.file ?? '')
const file = computed(() => props.release.changes.find((one) => one.file === chosen.value))
/** The changed files by folder. */
const folders = computed(() => {
  const all = new Map<string, FileView[]>()
  for (const one of props.release.changes) {
    const folder = one.file.slice(0, one.file.lastIndexOf('/') + 1)
    all.set(folder, [...(all.get(folder) ?? []), one])
  }
  return [...all]
})
const marks: Record<string, string> = { new: '+', changed: '±', gone: '−' }
const lines = ({ added, removed }: FileView) =>
  [added && `+${added}`, removed && `−${removed}`].filter(Boolean).join(' ')
const form = (name: string) => (name.endsWith('.json') ? 'json' : 'text')
</script>

<template>
  <section class="panel min-w-0 overflow-hidden" :aria-label="`Release ${release.release}`" data-release-detail>
    <header class="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-b border-line px-4 py-3">
      <h2 class="text-lg font-semibold">Release {{ release.release }}</h2>
      <p class="grow text-sm text-soft">
        by {{ release.by }}, <TimeText :at="release.at" /><template v-if="release.says">: {{ release.says }}</template>
      </p>
      <span v-if="release.current" class="text-sm font-medium text-done">✓ This release runs</span>
      <button v-else type="button" class="button" @click="$emit('back', release.release)">
        Go back to this release…
      </button>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="m-4" @again="again" />
    <p v-if="!release.changes.length" class="px-4 py-6 text-sm text-soft">
      It changed no file: it is the same as the release before.
    </p>
    <div v-else class="grid 2xl:grid-cols-[16rem_minmax(0,1fr)]">
      <div class="border-b border-line py-1 2xl:border-r 2xl:border-b-0">
        <ul
          v-for="[folder, files] in folders"
          :key="folder"
          class="text-sm"
          :aria-label="folder ? `Changed files in ${folder}` : 'Changed files'"
        >
          <li v-if="folder" class="heading px-4 pt-2 pb-0.5" aria-hidden="true">{{ folder }}</li>
          <li v-for="one in files" :key="one.file">
            <button
              type="button"
              class="flex w-full items-baseline gap-2 px-4 py-1 text-left hover:bg-sunken"
              :class="one.file === chosen && 'bg-sunken font-medium'"
              :aria-pressed="one.file === chosen"
              :data-file="one.file"
              @click="chosen = one.file"
            >
              <span class="w-3 shrink-0 text-center text-faint" :title="one.what" aria-hidden="true">{{
                marks[one.what]
              }}</span>
              <span class="grow truncate" :title="one.file">{{ one.file.slice(folder.length) }}</span>
              <span class="sr-only">{{ one.what }}</span>
              <span class="shrink-0 text-xs text-faint">{{ lines(one) }}</span>
            </button>
          </li>
        </ul>
      </div>
      <CompareView
        v-if="file && story"
        class="min-w-0"
        :form="form(file.file)"
        :before="story.before[file.file] ?? ''"
        :after="story.after[file.file] ?? ''"
        :before-label="file.what === FileChangeKind.new ? 'new file' : 'before'"
        :after-label="file.what === FileChangeKind.gone ? 'deleted in this release' : 'with this release'"
      />
    </div>
  </section>
</template>
