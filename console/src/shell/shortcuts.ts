/** Keys that work on every page. */
export const shortcuts = [
  { keys: '/', says: 'Go to anything by name or number (also Ctrl K)' },
  { keys: 'g s', says: 'Overview', to: '/' },
  { keys: 'g m', says: 'Messages', to: '/messages' },
  { keys: 'g x', says: 'Messages that need attention', to: '/messages?state=failed' },
  { keys: 'g a', says: 'Arrivals', to: '/arrivals' },
  { keys: 'g o', says: 'Orders', to: '/orders' },
  { keys: 'g c', says: 'Connections', to: '/connections' },
  { keys: 'g t', says: 'Captures', to: '/captures' },
  { keys: 'g r', says: 'Releases', to: '/releases' },
  { keys: 'g p', says: 'Maps', to: '/maps' },
  { keys: 'g d', says: 'X12 documents', to: '/x12' },
  { keys: '?', says: 'These keys' },
  { keys: 'Esc', says: 'Close what is open' },
]

/** Follows keys one by one; gives where a finished pair such as `g m` leads. */
export function pairs() {
  let before = ''
  return (key: string): string | undefined => {
    const found = shortcuts.find(({ keys }) => keys === `${before} ${key}`)
    before = found ? '' : key
    return found?.to
  }
}

/** Whether keys belong to what has the focus: fields take letters, and dialogs have keys of their own. */
export function isTyping(target: EventTarget | null): boolean {
  if (!(target instanceof Element)) return false
  return !!target.closest('input, textarea, select, [contenteditable], [role="dialog"], [role="listbox"]')
}
