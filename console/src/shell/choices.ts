/** What the palette offers. */
import type { Workspace } from '../api/schema'

export interface Choice {
  text: string
  kind: string
  to: string
}

export const pages: Choice[] = [
  { text: 'Overview', kind: 'page', to: '/' },
  { text: 'Messages', kind: 'page', to: '/messages' },
  { text: 'Messages that need attention', kind: 'page', to: '/messages?state=failed' },
  { text: 'Arrivals', kind: 'page', to: '/arrivals' },
  { text: 'Orders', kind: 'page', to: '/orders' },
  { text: 'Orders in trouble', kind: 'page', to: '/orders?state=trouble' },
  { text: 'Connections', kind: 'page', to: '/connections' },
  { text: 'Captures', kind: 'page', to: '/captures' },
  { text: 'Releases', kind: 'page', to: '/releases' },
  { text: 'Maps', kind: 'page', to: '/maps' },
  { text: 'X12 documents', kind: 'page', to: '/x12' },
  { text: 'Design system', kind: 'page', to: '/design' },
]

/** A workspace's parts, each leading to what belongs to it. */
export function partsOf({ flows, partners, connections }: Workspace): Choice[] {
  return [
    ...flows.map(({ name, title }) => ({ text: title || name, kind: 'flow', to: `/messages?flow=${name}` })),
    ...partners.map(({ name, title }) => ({ text: title || name, kind: 'partner', to: `/messages?partner=${name}` })),
    ...connections.map(({ name, title }) => ({ text: title || name, kind: 'connection', to: `/connections#${name}` })),
  ]
}

/** Something with a digit and no blank may be a number: of an order, here or in the target. */
export function numbersIn(typed: string): Choice[] {
  const text = typed.trim()
  if (!/^\S*\d\S*$/.test(text)) return []
  const number = encodeURIComponent(text)
  return [
    { text: `Order ${text}`, kind: 'order', to: `/orders/${number}` },
    { text: `Messages with the number ${text}`, kind: 'messages', to: `/messages?key=${number}` },
  ]
}

/** Those in which every typed word occurs. */
export function matching(typed: string, choices: Choice[]): Choice[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean)
  return choices.filter(({ text, kind }) => words.every((word) => `${text} ${kind}`.toLowerCase().includes(word)))
}
