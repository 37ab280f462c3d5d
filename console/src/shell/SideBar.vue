<script setup lang="ts">
/** The pages in groups: with words, as icons alone in a narrow window, or as a drawer in a very narrow one. */
import { useRoute } from 'vue-router'
import { groups, type Page } from './pages'
import { useAttention } from './useAttention'

const props = defineProps<{ /** In a drawer: always with words. */ drawer?: boolean }>()
defineEmits<{ chosen: [] }>()
const route = useRoute()
const attention = useAttention()
const here = ({ path }: Page) => (path === '/' ? route.path === '/' : route.path.startsWith(path))
const words = props.drawer ? '' : 'max-[1099px]:sr-only'
const countOf = ({ count }: Page) => (count ? attention.value[count] : 0)
</script>

<template>
  <nav aria-label="Pages" class="space-y-4 px-2 py-3">
    <section v-for="group in groups" :key="group.title">
      <h2 class="heading px-2 pb-1" :class="words">{{ group.title }}</h2>
      <ul class="space-y-px">
        <li v-for="page in group.pages" :key="page.path">
          <RouterLink
            :to="page.path"
            class="relative flex items-center gap-2.5 rounded-md px-2 py-1.5 text-sm text-soft hover:bg-sunken hover:text-ink"
            :class="here(page) && 'bg-sunken font-semibold text-ink!'"
            :aria-current="here(page) ? 'page' : undefined"
            :title="drawer ? undefined : page.text"
            @click="$emit('chosen')"
          >
            <component
              :is="page.icon"
              class="size-5 shrink-0"
              :class="here(page) ? 'text-thread' : 'text-faint'"
              aria-hidden="true"
            />
            <span :class="words">{{ page.text }}</span>
            <span
              v-if="countOf(page)"
              class="ml-auto rounded-full bg-failed px-1.5 text-2xs font-semibold text-ground tabular-nums"
              :class="!drawer && 'max-[1099px]:absolute max-[1099px]:top-0 max-[1099px]:right-0 max-[1099px]:px-1'"
              :data-count="page.name"
              >{{ countOf(page) > 999 ? '999+' : countOf(page)
              }}<span class="sr-only"> {{ countOf(page) === 1 ? 'needs' : 'need' }} attention</span></span
            >
          </RouterLink>
        </li>
      </ul>
    </section>
  </nav>
</template>
