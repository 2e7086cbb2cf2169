// What somebody presses: whether it is under way, and what came of it where it failed.
import { ref, watch, type Ref } from 'vue'

/** act does something, and keeps the error of the last that failed. */
export function useActing() {
  const error = ref<Error | null>(null)
  const busy = ref(false)
  async function act(what: () => Promise<unknown>) {
    busy.value = true
    error.value = null
    try {
      await what()
    } catch (e) {
      error.value = e as Error
    } finally {
      busy.value = false
    }
  }
  return { error, busy, act }
}

/** useTrial asks what would come of something each time that it is opened. What is answered
 *  to one that was closed meanwhile says nothing of the one that is open. */
export function useTrial<T>(open: Ref<boolean>, ask: () => Promise<T>) {
  const would = ref<T | null>(null) as Ref<T | null>
  const error = ref<Error | null>(null)
  const why = ref('')
  let turn = 0
  watch(open, async (o) => {
    const mine = ++turn
    if (!o) return
    would.value = error.value = null
    why.value = ''
    try {
      const answer = await ask()
      if (mine === turn) would.value = answer
    } catch (e) {
      if (mine === turn) error.value = e as Error
    }
  }, { immediate: true })
  return { would, error, why }
}
