<script setup lang="ts">
import { Dialog, DialogPanel, Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { Bars3Icon, ComputerDesktopIcon, MagnifyingGlassIcon, MoonIcon, SunIcon } from '@heroicons/vue/20/solid'
import { computed, onBeforeUnmount, onMounted, ref, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onSignedOut } from './api/client'
import { forgetAnswers } from './api/useAsked'
import CommandPalette from './shell/CommandPalette.vue'
import LinkState from './shell/LinkState.vue'
import SideBar from './shell/SideBar.vue'
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
const drawer = ref(false)

const themes = [
  { value: 'light', text: 'Light', icon: SunIcon },
  { value: 'dark', text: 'Dark', icon: MoonIcon },
  { value: 'system', text: 'As the system', icon: ComputerDesktopIcon },
] as const
const themeIcon = computed(() => themes.find((one) => one.value === theme.value)?.icon ?? SunIcon)

onSignedOut(async () => {
  forgetAnswers()
  // The first answer may arrive before the first page is loaded.
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
      <div class="flex h-12 items-center gap-3 px-3">
        <button
          type="button"
          class="button button-plain px-1.5! min-[720px]:hidden"
          aria-label="Pages"
          @click="drawer = true"
        >
          <Bars3Icon class="size-5" aria-hidden="true" />
        </button>
        <RouterLink to="/" class="flex items-center gap-2 px-1 font-semibold whitespace-nowrap">
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
          <span class="max-[719px]:sr-only">Wire Watch</span>
        </RouterLink>
        <span class="hidden truncate text-sm text-faint min-[900px]:inline">{{ workspace.title }}</span>
        <div class="ml-auto flex items-center gap-3">
          <span
            v-if="workspace.environment"
            class="rounded-sm border px-1.5 text-xs font-semibold whitespace-nowrap"
            :class="workspace.environment.production ? 'border-failed text-failed' : 'border-line-strong text-soft'"
            :title="
              workspace.environment.production
                ? 'Messages from here are real'
                : 'Not production: messages go to test addresses'
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
    <div class="flex grow">
      <div
        data-part="sidebar"
        class="sticky top-12 h-[calc(100vh-3rem)] shrink-0 overflow-y-auto border-r border-line max-[1099px]:w-14 max-[719px]:hidden min-[1100px]:w-52"
      >
        <SideBar />
      </div>
      <main id="main" class="min-w-0 grow px-5 py-4" tabindex="-1">
        <RouterView />
      </main>
    </div>
    <Dialog :open="drawer" class="relative z-40 min-[720px]:hidden" aria-label="Pages" @close="drawer = false">
      <div class="fixed inset-0 bg-shade" aria-hidden="true" />
      <DialogPanel class="fixed inset-y-0 left-0 w-64 overflow-y-auto border-r border-line bg-raised shadow-over">
        <SideBar drawer @chosen="drawer = false" />
      </DialogPanel>
    </Dialog>
    <CommandPalette :open="palette" @close="palette = false" />
    <ShortcutList :open="keys" @close="keys = false" />
  </div>
</template>
