// A clock for "how long ago".
import { createSharedComposable, useIntervalFn } from '@vueuse/core'
import { ref } from 'vue'

// How far the service's clock is ahead of the browser's: ages are those of the service.
let ahead = 0

/** Takes the time at which the service says that it answered; it is told to the second. */
export function answered(date: string | null) {
  const apart = date ? Date.parse(date) + 500 - Date.now() : NaN
  if (!Number.isNaN(apart)) ahead = Math.abs(apart) > 3000 ? apart : 0
}

export const serviceNow = () => Date.now() + ahead

/** The moment that all parts of a page tell ages by: they step together, and are drawn together. */
export const useNow = createSharedComposable(() => {
  const now = ref(serviceNow())
  useIntervalFn(() => (now.value = serviceNow()), 5000) // ages are read, not watched: each step draws what shows one
  return now
})
