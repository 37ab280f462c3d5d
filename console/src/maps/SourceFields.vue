<script setup lang="ts">
/** The sample document of a map, field by field, and the documents beside it. */
import { computed, ref } from 'vue'
import type { MapSource } from '../api/schema'
import { has } from './targets'
import type { Beside } from './useMapTrial'

const given = defineModel<string>('given', { required: true })
const props = defineProps<{
  fields: MapSource[]
  /** Names of the documents that the map reads beside its source, */ reads: string[]
  /** and their content. */ beside: Record<string, Beside>
}>()
const emit = defineEmits<{ beside: [name: string, file: File] }>()

const find = ref('')
const copied = ref('')
const shown = computed(() => props.fields.filter((one) => has(find.value, one.path, one.title, one.value)))

async function copy(path: string) {
  await navigator.clipboard.writeText(path)
  copied.value = path
}
function take(name: string, event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (file) emit('beside', name, file)
  // The same file can be chosen again after it has changed.
  input.value = ''
}
</script>

<template>
  <section class="panel min-w-0 overflow-hidden" aria-label="Source">
    <div class="flex min-h-10 items-center gap-2 border-b border-line px-3 py-1">
      <h2 class="font-medium">Source</h2>
      <input
        v-model="find"
        type="search"
        class="field ml-auto w-36 py-0.5 text-sm"
        placeholder="Find a field"
        aria-label="Find a field of the source"
      />
    </div>
    <div class="flex h-[58vh] flex-col">
      <ul v-if="reads.length" class="border-b border-line bg-sunken py-1 text-sm" aria-label="Read beside the source">
        <li v-for="name in reads" :key="name" class="flex items-baseline gap-2 px-3 py-0.5" :data-beside="name">
          <span class="font-mono">${{ name }}</span>
          <span class="min-w-0 truncate" :class="beside[name] ? 'text-soft' : 'text-failed'">{{
            beside[name]?.from ?? 'no document'
          }}</span>
          <label class="link ml-auto cursor-pointer whitespace-nowrap focus-within:outline-2">
            Choose a file…
            <input
              type="file"
              class="sr-only"
              accept=".json,application/json"
              :aria-label="`A file for $${name}`"
              @change="take(name, $event)"
            />
          </label>
        </li>
      </ul>
      <ul
        v-if="fields.length"
        class="min-h-0 grow overflow-auto py-1 text-sm"
        tabindex="0"
        aria-label="Fields of the source"
      >
        <li v-for="one in shown" :key="one.path">
          <button
            type="button"
            class="grid w-full grid-cols-[1rem_minmax(0,1fr)_auto] items-baseline gap-x-1.5 px-2 py-0.5 text-left hover:bg-sunken"
            :title="`Copy ${one.path}`"
            :data-source="one.path"
            :data-used="one.used"
            @click="copy(one.path)"
          >
            <span :class="one.used ? 'text-done' : 'text-faint'" aria-hidden="true">{{ one.used ? '✓' : '·' }}</span>
            <span class="truncate font-mono"
              >{{ one.path }}<span v-if="one.title" class="ml-2 font-sans text-xs text-soft">{{ one.title }}</span
              ><span class="sr-only">{{ one.used ? ', used' : ', not used' }}</span></span
            >
            <span class="text-xs text-faint">{{
              copied === one.path ? 'copied' : one.times > 1 ? `× ${one.times}` : ''
            }}</span>
            <span class="col-start-2 col-end-4 truncate text-soft">{{ one.value }}</span>
          </button>
        </li>
      </ul>
      <div v-else class="flex min-h-0 grow flex-col p-3">
        <label for="given" class="mb-1 block text-sm text-soft"
          >Paste a document, or drop a file anywhere on this page.</label
        >
        <textarea
          id="given"
          v-model="given"
          class="field min-h-0 w-full grow font-mono text-sm"
          spellcheck="false"
        ></textarea>
      </div>
    </div>
  </section>
</template>
