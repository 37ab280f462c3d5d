import { pages, titleOfPage } from './pages'

export interface Shortcut {
  keys: string
  says: string
  to?: string
}

/** Keyboard shortcuts of every page. */
export const shortcuts: Shortcut[] = [
  { keys: '/', says: 'Go to anything by name or number (also Ctrl K)' },
  ...pages.map((page) => ({ keys: `g ${page.key}`, says: titleOfPage(page), to: page.path })),
  { keys: 'g x', says: 'Messages that need attention', to: '/messages?state=failed' },
  { keys: 'j', says: 'Next, in a list and from message to message' },
  { keys: 'k', says: 'Previous' },
  { keys: 'a', says: 'Amend the message' },
  { keys: 'r', says: 'Resend the message' },
  { keys: '?', says: 'These keys' },
  { keys: 'Esc', says: 'Close what is open' },
]

/** Follows keys one by one; returns the target of a complete pair such as `g m`. */
export function pairs() {
  let before = ''
  return (key: string): string | undefined => {
    const found = shortcuts.find(({ keys }) => keys === `${before} ${key}`)
    before = found ? '' : key
    return found?.to
  }
}

/** True if keys belong to the focused element: a field, or a dialog with its own keys. */
export function isTyping(target: EventTarget | null): boolean {
  if (!(target instanceof Element)) return false
  return !!target.closest('input, textarea, select, [contenteditable], [role="dialog"], [role="listbox"]')
}
