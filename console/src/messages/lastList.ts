import { shallowRef } from 'vue'

/** The list of messages that was shown last, with its address: a message opened from it has a next and a previous one. */
export const lastList = shallowRef<{ ids: string[]; address: string }>({ ids: [], address: '/messages' })

/** Returns the messages beside one in a list, and its place in words; nothing when the list does not have it. */
export function neighbours(ids: string[], id: string): { before?: string; after?: string; place: string } | undefined {
  const at = ids.indexOf(id)
  if (at < 0) return undefined
  return { before: ids[at - 1], after: ids[at + 1], place: `${at + 1} of ${ids.length}` }
}
