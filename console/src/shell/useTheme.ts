import { ref, watchEffect } from 'vue'

export type Theme = 'system' | 'light' | 'dark'

const stored = (): Theme => {
  try {
    const theme = localStorage.getItem('theme')
    return theme === 'light' || theme === 'dark' ? theme : 'system'
  } catch {
    return 'system'
  }
}

const theme = ref<Theme>(stored())

watchEffect(() => {
  if (typeof document === 'undefined') return
  if (theme.value === 'system') delete document.documentElement.dataset.theme
  else document.documentElement.dataset.theme = theme.value
  try {
    if (theme.value === 'system') localStorage.removeItem('theme')
    else localStorage.setItem('theme', theme.value)
  } catch {
    // Without storage, the choice lasts until the page is reloaded.
  }
})

/** Light, dark, or the system's setting; stored in this browser. */
export const useTheme = () => theme
