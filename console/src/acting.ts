// What somebody presses: whether it is under way, and what came of it where it failed.
import { ref } from 'vue'

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
