<script setup lang="ts">
/** A document as a form: each value with its title and description from the schema. The text beside it is what is sent. */
import { computed } from 'vue'
import type { SubmitField } from '../api/schema'
import { type Item, less, more, type Place, put, shapeOf } from './places'

const props = defineProps<{ fields: SubmitField[] }>()
const text = defineModel<string>({ required: true })
const shape = computed(() => shapeOf(text.value))
const known = computed(() => new Map(props.fields.map((field) => [field.path, field])))

interface Group {
  /** Path of the values; empty at the top. */
  at: string
  item?: Item
  places: Place[]
}
/** Values of one object, in the order of the document. */
const groups = computed(() => {
  const found: Group[] = []
  for (const place of shape.value?.places ?? []) {
    const at = place.key.replace(/\.?[^.]*$/, '')
    const last = found.at(-1)
    if (last?.at === at) last.places.push(place)
    else found.push({ at, item: shape.value?.items.find((item) => item.key === at), places: [place] })
  }
  return found
})
const nameOf = (place: Place) => known.value.get(place.path)?.title || place.key.split('.').at(-1) || place.key
const kindOf = (place: Place) => known.value.get(place.path)?.kind || place.kind
const set = (place: Place, value: string) => (text.value = put(text.value, place, value, kindOf(place)))
const placeName = (at: string) => at.replace(/\[(\d+)\]/g, (_, n) => ` ${Number(n) + 1}`).replaceAll('.', ' · ')
</script>

<template>
  <p v-if="!shape" class="p-3 text-sm text-soft">
    The text is not valid JSON at the moment. Its fields are shown again when it is.
  </p>
  <div v-else class="p-3 text-sm">
    <fieldset v-for="group in groups" :key="group.at" class="mb-3 min-w-0" :data-group="group.at">
      <legend v-if="group.at" class="mb-1 flex w-full items-baseline gap-3 border-b border-line pb-0.5">
        <span class="font-medium">{{ placeName(group.at) }}</span>
        <template v-if="group.item">
          <button type="button" class="link ml-auto text-xs" @click="text = more(text, group.item!)">
            Add another
          </button>
          <button type="button" class="link text-xs" @click="text = less(text, group.item!)">Remove</button>
        </template>
      </legend>
      <div
        v-for="place in group.places"
        :key="place.key"
        class="grid grid-cols-[minmax(0,10rem)_minmax(0,1fr)] items-center gap-x-3 py-0.5"
      >
        <label :for="`submit-${place.key}`" class="truncate text-soft" :title="place.key">
          {{ nameOf(place) }}<span v-if="known.get(place.path)?.required" class="text-faint" title="Required"> *</span>
        </label>
        <select
          v-if="kindOf(place) === 'boolean'"
          :id="`submit-${place.key}`"
          class="field w-full py-0.5"
          :value="place.value"
          @change="set(place, ($event.target as HTMLSelectElement).value)"
        >
          <option value="true">yes</option>
          <option value="false">no</option>
        </select>
        <template v-else>
          <input
            :id="`submit-${place.key}`"
            class="field w-full py-0.5"
            :value="place.value"
            :data-field="place.key"
            :list="known.get(place.path)?.examples.length ? `like-${place.key}` : undefined"
            :placeholder="known.get(place.path)?.format ?? undefined"
            autocomplete="off"
            spellcheck="false"
            @input="set(place, ($event.target as HTMLInputElement).value)"
          />
          <datalist v-if="known.get(place.path)?.examples.length" :id="`like-${place.key}`">
            <option v-for="like in known.get(place.path)?.examples" :key="like" :value="like" />
          </datalist>
        </template>
      </div>
    </fieldset>
    <p v-if="fields.some((field) => field.required)" class="text-xs text-faint">* required</p>
  </div>
</template>
