import { ref } from 'vue'
import { type ColumnKey, columnKeys } from './columns'

const STORED = 'message-columns'

function stored(): ColumnKey[] | undefined {
  try {
    const known = JSON.parse(localStorage.getItem(STORED) ?? 'null') as unknown
    return Array.isArray(known) ? columnKeys.filter((key) => known.includes(key)) : undefined
  } catch {
    // No storage, or not our text: the usual columns.
    return undefined
  }
}

const chosen = ref(stored())

/** The columns that a person has chosen, kept in this browser; `undefined` means the usual ones. */
export function useColumns() {
  function choose(keys: ColumnKey[] | undefined) {
    chosen.value = keys
    try {
      if (keys) localStorage.setItem(STORED, JSON.stringify(keys))
      else localStorage.removeItem(STORED)
    } catch {
      // Without storage the choice lasts until the page is loaded again.
    }
  }
  return { chosen, choose }
}
