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

/** Whether the service can be heard: it says so every few seconds, though nothing changed. */
export const connected = ref(true)

// The service's stream beats every five seconds; two missed beats are too many.
const silence = 12_000

// The least time between two looks at the same thing, so that a busy fleet starves no page.
const pause = 400

let source: EventSource | undefined
let due = new Set<string>()
let timer: number | undefined
let watch: number | undefined
let heard = 0

const affected: Record<string, string[]> = {
  host: ['hosts', 'host', 'drift', 'keys'],
  revision: ['revisions', 'preview', 'hosts', 'channels', 'keys', 'repositories'],
  rollout: ['rollouts', 'rollout', 'hosts', 'host', 'drift'],
  repository: ['repositories', 'keys', 'whence'],
  seats: ['accounts', 'contracts', 'seats', 'outlook', 'channels', 'preview', 'host', 'hosts'],
}
// What a host says of a rollout changes neither what the next one would change nor what
// contracts come to; that a rollout begins, ends or is stopped does.
const turning = ['preview', 'revisions', 'channels', 'outlook']
const small = new Set(['report', 'withdraw'])
const everything = [...new Set([...Object.values(affected).flat(), ...turning])]

function note(keys: string[]) {
  for (const k of keys) due.add(k)
  timer ??= window.setTimeout(look, pause)
}

let late: number | undefined

// While hosts report, what follows from all of them is looked at now and then.
function turned(e: { command?: string }) {
  if (!small.has(e.command ?? '')) note(turning)
  else late ??= window.setTimeout(() => { late = undefined; note(turning) }, 5000)
}

// A look that is under way is not cut off: what changed meanwhile is looked at after it.
function look() {
  timer = undefined
  const now = due
  due = new Set()
  for (const k of now) {
    if (queries.isFetching({ queryKey: [k] })) due.add(k)
    else void queries.invalidateQueries({ queryKey: [k] }, { cancelRefetch: false })
  }
  if (due.size) timer = window.setTimeout(look, pause)
}

function alive() {
  heard = Date.now()
  if (!connected.value) note(everything)
  connected.value = true
}

export function listen() {
  if (source) return
  heard = Date.now()
  source = new EventSource('/api/events')
  for (const [kind, keys] of Object.entries(affected)) {
    source.addEventListener(kind, (e) => {
      alive()
      note(keys)
      if (kind === 'rollout') turned(JSON.parse((e as MessageEvent<string>).data) as { command?: string })
    })
  }
  source.addEventListener('all', () => {
    alive()
    note(everything)
  })
  source.addEventListener('beat', alive)
  source.onopen = alive
  source.onerror = () => {
    connected.value = false
    // A stream that the service ended is not taken up again by the browser: perhaps the
    // session ended, and asking for it tells.
    void queries.invalidateQueries({ queryKey: ['session'] })
    if (source?.readyState === EventSource.CLOSED) {
      source = undefined
      window.setTimeout(() => listen(), 3000)
    }
  }
  watch ??= window.setInterval(() => {
    if (Date.now() - heard > silence) connected.value = false
  }, 1000)
}

export function stopListening() {
  source?.close()
  source = undefined
  window.clearInterval(watch)
  watch = undefined
  queries.clear()
}
