/** The entries of the command palette. */
import type { Workspace } from '../api/schema'
import { pages, titleOfPage } from './pages'

export interface Choice {
  text: string
  kind: string
  to: string
}

/** Every page, and lists that people ask for by name. */
export const pageChoices: Choice[] = [
  ...pages.map((page) => ({ text: titleOfPage(page), kind: 'page', to: page.path })),
  { text: 'Messages that need attention', kind: 'page', to: '/messages?state=failed' },
  { text: 'Orders in trouble', kind: 'page', to: '/orders?state=trouble' },
  { text: 'Design system', kind: 'page', to: '/design' },
]

/** Entries for the parts of the workspace. */
export function partsOf({ flows, partners, connections }: Workspace): Choice[] {
  return [
    ...flows.map(({ name, title }) => ({ text: title || name, kind: 'flow', to: `/messages?flow=${name}` })),
    ...partners.map(({ name, title }) => ({ text: title || name, kind: 'partner', to: `/messages?partner=${name}` })),
    ...connections.map(({ name, title }) => ({ text: title || name, kind: 'connection', to: `/connections#${name}` })),
  ]
}

/** A text with a digit and no blank may be an order number. */
export function numbersIn(typed: string): Choice[] {
  const text = typed.trim()
  if (!/^\S*\d\S*$/.test(text)) return []
  const number = encodeURIComponent(text)
  return [
    { text: `Order ${text}`, kind: 'order', to: `/orders/${number}` },
    { text: `Messages with a number that begins with ${text}`, kind: 'messages', to: `/messages?key_prefix=${number}` },
  ]
}

/** Returns the entries that contain every typed word. */
export function matching(typed: string, choices: Choice[]): Choice[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean)
  return choices.filter(({ text, kind }) => words.every((word) => `${text} ${kind}`.toLowerCase().includes(word)))
}
