// A clock for "how long ago".
import { onUnmounted, ref } from 'vue'

// How far the service's clock is ahead of the browser's: ages are those of the service.
let ahead = 0

/** Takes the time at which the service says that it answered; it is told to the second. */
export function answered(date: string | null) {
  const apart = date ? Date.parse(date) + 500 - Date.now() : NaN
  if (!Number.isNaN(apart)) ahead = Math.abs(apart) > 3000 ? apart : 0
}

export const serviceNow = () => Date.now() + ahead

export function useNow() {
  const now = ref(serviceNow())
  const timer = window.setInterval(() => (now.value = serviceNow()), 1000)
  onUnmounted(() => window.clearInterval(timer))
  return now
}
