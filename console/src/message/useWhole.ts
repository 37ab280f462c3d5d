import { computed, ref, shallowRef, watch } from 'vue'
import { api, asked } from '../api/client'
import type { DocumentView } from '../api/schema'

/** A document of which the story may carry the start only; `whole` asks for all of it. */
export function useWhole(message: () => string, step: () => string, start: () => DocumentView) {
  const full = shallowRef<DocumentView>()
  const loading = ref(false)
  watch([message, step, () => start().size], () => (full.value = undefined))

  async function whole() {
    loading.value = true
    try {
      const params = { path: { id: message() }, query: { step: step() } }
      full.value = await asked(api.GET('/api/messages/{id}/document', { params }))
    } finally {
      loading.value = false
    }
  }
  return { document: computed(() => full.value ?? start()), whole, loading }
}
