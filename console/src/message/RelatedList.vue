<script setup lang="ts">
/** The arrival of a message, and the messages made from it. */
import { computed } from 'vue'
import type { Story } from '../api/schema'
import StateBadge from '../ui/StateBadge.vue'
import TermHelp from '../ui/TermHelp.vue'
import TimeText from '../ui/TimeText.vue'

const props = defineProps<{ story: Story }>()
const meta = computed(() => {
  const words: Record<string, string> = {
    interchange: 'Interchange',
    control: 'Interchange',
    group: 'Group',
    set: 'Set',
    version: 'Version',
  }
  return Object.entries(words).flatMap(([key, word]) => {
    const value = (props.story.meta as Record<string, unknown>)[key]
    return typeof value === 'string' && value ? [{ word, value }] : []
  })
})
/** The message of which this one is a branch. */
const part = computed(() => (props.story.meta as { part?: { of: string; way: string } }).part)
const acknowledgments = computed(() => props.story.beside.filter((one) => one.flow === 'acknowledgments'))
const others = computed(() => props.story.beside.filter((one) => one.flow !== 'acknowledgments'))
</script>

<template>
  <div class="panel space-y-3 p-3 text-sm">
    <section>
      <h2 class="heading mb-1">Received from</h2>
      <p v-if="story.from">
        <RouterLink :to="`/arrivals/${story.from.id}`" class="link break-all">{{ story.from.name }}</RouterLink><br />
        <span class="text-soft"><TimeText :at="story.from.received" /></span>
      </p>
      <p v-else class="text-soft">Made here.</p>
      <p v-if="part">
        Branch <strong class="font-medium">{{ part.way }}</strong> of
        <RouterLink :to="`/messages/${part.of}`" class="link">{{ part.of }}</RouterLink>
      </p>
      <dl v-if="meta.length" class="mt-1 grid grid-cols-[max-content_1fr] gap-x-3 text-soft">
        <template v-for="{ word, value } in meta" :key="word + value"
          ><dt class="text-faint">{{ word }}</dt>
          <dd class="truncate">{{ value }}</dd></template
        >
      </dl>
    </section>
    <section>
      <h2 class="heading mb-1">Made from it</h2>
      <p v-if="story.message.result">{{ story.message.result }} <span class="text-faint">in the target</span></p>
      <ul v-if="acknowledgments.length" class="space-y-1">
        <li v-for="one in acknowledgments" :key="one.id" class="flex items-center gap-2">
          <RouterLink :to="`/messages/${one.id}`" class="link">997 {{ one.result || one.key }}</RouterLink>
          <StateBadge :state="one.state" />
        </li>
      </ul>
      <p v-if="!story.message.result && !acknowledgments.length" class="text-soft">Nothing yet.</p>
      <p v-if="story.message.key" class="mt-1">
        <RouterLink :to="`/orders/${encodeURIComponent(story.message.key)}`" class="link">The whole order</RouterLink>
        <span class="text-faint"> · <TermHelp term="milestone" word="milestones" /></span>
      </p>
    </section>
    <section v-if="others.length">
      <h2 class="heading mb-1">From the same arrival</h2>
      <ul class="max-h-40 space-y-1 overflow-auto" tabindex="0" aria-label="Messages from the same arrival">
        <li v-for="one in others" :key="one.id" class="flex items-center gap-2">
          <RouterLink :to="`/messages/${one.id}`" class="link">{{ one.key || one.id }}</RouterLink>
          <span v-if="one.key === story.message.key" class="truncate text-faint">{{ one.step }}</span>
          <StateBadge :state="one.state" />
        </li>
      </ul>
    </section>
  </div>
</template>
