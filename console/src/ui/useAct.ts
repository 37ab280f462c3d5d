import { ref, shallowRef } from 'vue'
import { type Trouble, troubleOf } from '../api/client'

/** Carries out acts one at a time: whether one is being carried out, and why the last one failed. `done` is called after each that succeeds. */
export function useAct(done: () => void) {
  const busy = ref(false)
  const trouble = shallowRef<Trouble>()
  async function carryOut(act: () => Promise<unknown>) {
    busy.value = true
    trouble.value = undefined
    try {
      await act()
      done()
    } catch (error) {
      trouble.value = troubleOf(error)
    } finally {
      busy.value = false
    }
  }
  return { busy, trouble, carryOut }
}
