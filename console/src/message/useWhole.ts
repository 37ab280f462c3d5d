import { computed, watch } from 'vue'
import { api, asked } from '../api/client'
import type { DocumentView } from '../api/schema'
import { useAsked } from '../api/useAsked'

/** A document of which the history may have only the beginning; `whole` loads all of it. */
export function useWhole(message: () => string, step: () => string, start: () => DocumentView) {
  const { known, trouble, asking, again, forget } = useAsked(() => {
    const params = { path: { id: message() }, query: { step: step() } }
    return asked(api.GET('/api/messages/{id}/document', { params }))
  })
  watch([message, step, () => start().size], forget)
  return { document: computed(() => known.value ?? start()), whole: again, loading: asking, trouble }
}
