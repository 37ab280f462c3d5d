import { ref, watchEffect } from 'vue'

export type Theme = 'system' | 'light' | 'dark'

const kept = (): Theme => {
  try {
    const theme = localStorage.getItem('theme')
    return theme === 'light' || theme === 'dark' ? theme : 'system'
  } catch {
    return 'system'
  }
}

const theme = ref<Theme>(kept())

watchEffect(() => {
  if (typeof document === 'undefined') return
  if (theme.value === 'system') delete document.documentElement.dataset.theme
  else document.documentElement.dataset.theme = theme.value
  try {
    if (theme.value === 'system') localStorage.removeItem('theme')
    else localStorage.setItem('theme', theme.value)
  } catch {
    // It holds for this page, then.
  }
})

/** Light, dark, or what the system says; kept in this browser. */
export const useTheme = () => theme
