<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { ComputerDesktopIcon, MagnifyingGlassIcon, MoonIcon, SunIcon } from '@heroicons/vue/20/solid'
import { computed, onBeforeUnmount, onMounted, ref, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onSignedOut } from './api/client'
import CommandPalette from './shell/CommandPalette.vue'
import LinkState from './shell/LinkState.vue'
import ShortcutList from './shell/ShortcutList.vue'
import { isTyping, pairs } from './shell/shortcuts'
import { useTheme } from './shell/useTheme'
import { useWorkspace } from './shell/useWorkspace'

const route = useRoute()
const router = useRouter()
const theme = useTheme()
const workspace = useWorkspace()
const palette = ref(false)
const keys = ref(false)

const pages = [
  { to: '/', text: 'Overview' },
  { to: '/messages', text: 'Messages' },
  { to: '/arrivals', text: 'Arrivals' },
  { to: '/orders', text: 'Orders' },
  { to: '/connections', text: 'Connections' },
  { to: '/captures', text: 'Captures' },
  { to: '/releases', text: 'Releases' },
  { to: '/maps', text: 'Maps' },
  { to: '/x12', text: 'X12' },
]
const here = (to: string) => (to === '/' ? route.path === '/' : route.path.startsWith(to))
const themes = [
  { value: 'light', text: 'Light', icon: SunIcon },
  { value: 'dark', text: 'Dark', icon: MoonIcon },
  { value: 'system', text: 'As the system', icon: ComputerDesktopIcon },
] as const
const themeIcon = computed(() => themes.find((one) => one.value === theme.value)?.icon ?? SunIcon)

onSignedOut(async () => {
  // The first answer may be here before the first page is.
  await router.isReady()
  if (!route.meta.open) void router.replace('/sign-in')
})
watchEffect(() => {
  const { title, environment } = workspace.value
  document.title = [route.params.orderKey, route.meta.title, title || 'Wire Watch', environment?.title]
    .filter(Boolean)
    .join(' · ')
})

const press = pairs()
function onKey(event: KeyboardEvent) {
  if (event.key.toLowerCase() === 'k' && (event.ctrlKey || event.metaKey)) {
    event.preventDefault()
    palette.value = true
    return
  }
  if (isTyping(event.target) || event.ctrlKey || event.metaKey || event.altKey) return
  if (event.key === '/' || event.key === '?') {
    event.preventDefault()
    if (event.key === '/') palette.value = true
    else keys.value = true
    return
  }
  const to = press(event.key)
  if (to) void router.push(to)
}
onMounted(() => addEventListener('keydown', onKey))
onBeforeUnmount(() => removeEventListener('keydown', onKey))
</script>

<template>
  <RouterView v-if="route.meta.open" />
  <div v-else class="flex min-h-screen flex-col">
    <a href="#main" class="button absolute top-2 left-2 z-50 -translate-y-20 focus:translate-y-0">To the content</a>
    <header class="sticky top-0 z-20 border-b border-line bg-ground">
      <div class="mx-auto flex h-13 max-w-[2200px] items-center gap-1 px-5">
        <RouterLink to="/" class="mr-2 flex lg:mr-4 items-center gap-2 font-semibold whitespace-nowrap">
          <svg viewBox="0 0 32 32" class="size-6 text-thread" aria-hidden="true">
            <path
              d="M2 20C8 20 8 10 16 10s8 12 14 12"
              fill="none"
              stroke="currentColor"
              stroke-width="3"
              stroke-linecap="round"
            />
            <circle cx="16" cy="10" r="5" fill="currentColor" />
          </svg>
          <span class="sr-only whitespace-nowrap lg:not-sr-only">Wire Watch</span>
        </RouterLink>
        <nav aria-label="Pages" class="flex gap-0.5">
          <RouterLink
            v-for="page in pages"
            :key="page.to"
            :to="page.to"
            class="relative rounded-md px-1.5 py-1.5 text-sm lg:px-2 whitespace-nowrap text-soft hover:text-ink xl:px-2.5"
            :class="here(page.to) && 'font-semibold text-ink!'"
            :aria-current="here(page.to) ? 'page' : undefined"
          >
            {{ page.text }}
            <span
              v-if="here(page.to)"
              class="absolute inset-x-1.5 -bottom-[9px] lg:inset-x-2 xl:inset-x-2.5 h-0.5 bg-thread"
              aria-hidden="true"
            />
          </RouterLink>
        </nav>
        <div class="ml-auto flex items-center gap-3">
          <span class="hidden max-w-52 truncate text-xs text-faint min-[1420px]:inline">{{ workspace.title }}</span>
          <span
            v-if="workspace.environment"
            class="rounded-sm border px-1.5 text-xs font-semibold whitespace-nowrap"
            :class="workspace.environment.production ? 'border-failed text-failed' : 'border-line-strong text-soft'"
            :title="
              workspace.environment.production
                ? 'What is sent from here is meant'
                : 'No production: what is sent from here goes to other addresses'
            "
            data-environment
            >{{ workspace.environment.title }}</span
          >
          <LinkState />
          <button type="button" class="button text-soft! whitespace-nowrap" @click="palette = true">
            <MagnifyingGlassIcon class="size-4" aria-hidden="true" /><span class="sr-only lg:not-sr-only">Go to</span>
            <kbd class="hidden rounded-sm border border-line px-1 font-mono text-2xs leading-4 lg:inline">/</kbd>
          </button>
          <Menu as="div" class="relative">
            <MenuButton class="button button-plain px-1.5!" aria-label="Light or dark">
              <component :is="themeIcon" class="size-5" aria-hidden="true" />
            </MenuButton>
            <MenuItems
              class="absolute right-0 mt-1 w-44 animate-appear rounded-md border border-line bg-raised py-1 text-sm shadow-over focus:outline-none"
            >
              <MenuItem v-for="one in themes" :key="one.value" v-slot="{ active }">
                <button
                  type="button"
                  class="flex w-full items-center gap-2 px-3 py-1.5 text-left"
                  :class="[active && 'bg-sunken', theme === one.value && 'font-semibold']"
                  @click="theme = one.value"
                >
                  <component :is="one.icon" class="size-4" aria-hidden="true" />{{ one.text }}
                </button>
              </MenuItem>
            </MenuItems>
          </Menu>
          <button type="button" class="button button-plain px-2!" aria-label="Keys" @click="keys = true">?</button>
        </div>
      </div>
    </header>
    <main id="main" class="mx-auto w-full max-w-[2200px] grow px-5 py-5" tabindex="-1">
      <RouterView />
    </main>
    <CommandPalette :open="palette" @close="palette = false" />
    <ShortcutList :open="keys" @close="keys = false" />
  </div>
</template>
