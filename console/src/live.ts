// Keeps what is shown true: the service tells what changed, and the pages that
// show it ask again.
import { QueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { Refusal } from './api'

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 30_000,
      refetchOnWindowFocus: true,
      retry: (n, e) => !(e instanceof Refusal && e.status >= 400 && e.status < 500) && n < 3,
    },
  },
})

/** Whether the service can be heard. */
export const connected = ref(true)

let source: EventSource | undefined
let due = new Set<string>()
let timer: number | undefined

const affected: Record<string, string[]> = {
  host: ['hosts', 'host', 'drift'],
  revision: ['revisions', 'preview', 'hosts', 'channels'],
  rollout: ['rollouts', 'rollout', 'hosts', 'host', 'preview', 'revisions', 'channels', 'outlook'],
  seats: ['accounts', 'contracts', 'seats', 'outlook', 'channels', 'preview', 'host', 'hosts'],
}

function note(kind: string) {
  for (const k of affected[kind] ?? []) due.add(k)
  timer ??= window.setTimeout(() => {
    const now = due
    due = new Set()
    timer = undefined
    for (const k of now) void queries.invalidateQueries({ queryKey: [k] })
  }, 150)
}

export function listen() {
  if (source) return
  source = new EventSource('/api/events')
  for (const kind of Object.keys(affected)) source.addEventListener(kind, () => note(kind))
  source.onopen = () => {
    if (!connected.value) void queries.invalidateQueries()
    connected.value = true
  }
  source.onerror = () => {
    connected.value = false
  }
}

export function stopListening() {
  source?.close()
  source = undefined
  queries.clear()
}
