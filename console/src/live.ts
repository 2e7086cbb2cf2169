// Keeps what is shown true: the service tells what changed, and the pages that
// show it ask again.
import { QueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { Refusal } from './api'
import { follow, type Kind, type Told } from './events'

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

// The service's stream beats every four seconds; two missed beats are too many.
const silence = 9_000

// The least time between two looks at the same thing, so that a busy fleet starves no page.
const pause = 400

let stream: { close: () => void } | undefined
let due = new Set<string>()
let timer: number | undefined
let watch: number | undefined
let heard = 0

/** What an event of a kind changes at once. */
export const affected: Record<Kind, string[]> = {
  host: ['hosts', 'host', 'drift', 'keys'],
  revision: ['revisions', 'proposals', 'groups', 'audit', 'preview', 'hosts', 'channels', 'keys', 'repositories', 'whence'],
  proposal: ['proposals', 'audit'],
  rollout: ['rollouts', 'rollout', 'hosts', 'host', 'drift', 'audit'],
  repository: ['repositories', 'keys', 'whence', 'audit'],
  seats: ['accounts', 'contracts', 'seats', 'outlook', 'channels', 'preview', 'host', 'hosts', 'audit'],
  waiver: ['hosts', 'host', 'drift', 'audit'],
  freeze: ['freezes', 'rollouts', 'rollout', 'audit'],
  webhook: ['webhooks', 'audit'],
  shelf: ['shelves', 'repositories', 'audit'],
  day: ['days'],
}
/** What follows from all hosts: while they report it is looked at now and then, and what costs the service much each minute. */
export const following: Partial<Record<Kind, string[]>> = { host: ['audit', 'repositories', 'whence'] }
export const slowly: Partial<Record<Kind, string[]>> = { host: ['preview', 'groups', 'channels', 'outlook', 'seats', 'contracts'] }
/** What no event tells of: it never changes, or its pages ask again by themselves. */
export const silent = ['session', 'operators', 'settings', 'revision-files', 'dates']
// What a host says of a rollout changes neither what the next one would change nor what
// contracts come to; that a rollout begins, ends or is stopped does.
const turning = ['preview', 'revisions', 'channels', 'outlook']
const small = new Set(['report', 'withdraw'])
const everything = [...new Set([...Object.values(affected), ...Object.values(following), ...Object.values(slowly)].flat().concat(turning))]

function note(keys: string[]) {
  for (const k of keys) due.add(k)
  timer ??= window.setTimeout(look, pause)
}

const later = new Map<number, { keys: Set<string>; timer: number }>()

/** Looks at something when so many milliseconds are over, however often it is asked for until then. */
function noteIn(ms: number, keys: string[] = []) {
  if (!keys.length) return
  const waiting = later.get(ms)
  if (waiting) {
    for (const k of keys) waiting.keys.add(k)
    return
  }
  const all = new Set(keys)
  const timer = window.setTimeout(() => {
    later.delete(ms)
    note([...all])
  }, ms)
  later.set(ms, { keys: all, timer })
}

// While hosts report, what follows from all of them is looked at now and then.
function turned(e: { command?: string }) {
  if (!small.has(e.command ?? '')) note(turning)
  else noteIn(5000, turning)
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

function take(e: Told) {
  if (e.kind === 'error') {
    // Perhaps the session ended, and asking for it tells.
    connected.value = false
    void queries.invalidateQueries({ queryKey: ['session'] })
    return
  }
  alive()
  if (e.kind === 'all') note(everything)
  else if (e.kind !== 'open' && e.kind !== 'beat') {
    note(affected[e.kind])
    noteIn(5000, following[e.kind])
    noteIn(60_000, slowly[e.kind])
  }
  if (e.kind === 'rollout') turned(JSON.parse(e.data) as { command?: string })
}

/** The stream that all tabs share. */
function shared(): { close: () => void } {
  const worker = new SharedWorker(new URL('./events.worker.ts', import.meta.url), { type: 'module', name: 'lantern-events' })
  worker.port.onmessage = (m: MessageEvent<Told>) => take(m.data)
  worker.port.postMessage('listen')
  return {
    close: () => {
      worker.port.postMessage('leave')
      worker.port.close()
    },
  }
}

export function listen() {
  if (stream) return
  heard = Date.now()
  stream = typeof SharedWorker === 'undefined' ? follow(take) : shared()
  watch ??= window.setInterval(() => {
    if (Date.now() - heard > silence) connected.value = false
  }, 1000)
}

// A page that is left is kept by the browser for a while: it must not keep a stream.
window.addEventListener('pagehide', () => {
  stream?.close()
  stream = undefined
})
window.addEventListener('pageshow', (e) => {
  if (!e.persisted || watch === undefined) return
  listen()
  note(everything)
})

export function stopListening() {
  stream?.close()
  stream = undefined
  window.clearInterval(watch)
  for (const x of later.values()) window.clearTimeout(x.timer)
  later.clear()
  window.clearTimeout(timer)
  timer = undefined
  due = new Set()
  watch = undefined
  queries.clear()
}
