// One stream of events for every tab of the console: a browser opens six connections to a
// service at most, and with a stream each the seventh tab would wait for ever.
/// <reference lib="webworker" />

/** What tabs are told: an event of the service, or how the stream stands. */
export type Told = { kind: string; data: string } | { kind: 'open' } | { kind: 'error'; closed: boolean }

const kinds = ['host', 'revision', 'rollout', 'repository', 'seats', 'all', 'beat']
const tabs = new Set<MessagePort>()
let source: EventSource | undefined
let again: ReturnType<typeof setTimeout> | undefined

function tell(what: Told) {
  for (const tab of tabs) tab.postMessage(what)
}

function listen() {
  clearTimeout(again)
  if (source || !tabs.size) return
  source = new EventSource('/api/events')
  for (const kind of kinds) source.addEventListener(kind, (e) => tell({ kind, data: (e as MessageEvent<string>).data }))
  source.onopen = () => tell({ kind: 'open' })
  source.onerror = () => {
    const closed = source?.readyState === EventSource.CLOSED
    tell({ kind: 'error', closed })
    // A stream that the service ended is not taken up again by the browser.
    if (closed) {
      source = undefined
      again = setTimeout(listen, 3000)
    }
  }
}

function leave(tab: MessagePort) {
  tabs.delete(tab)
  if (tabs.size) return
  source?.close()
  source = undefined
}

;(self as unknown as SharedWorkerGlobalScope).onconnect = (e) => {
  const tab = e.ports[0]
  if (!tab) return
  tab.onmessage = (m: MessageEvent<string>) => {
    if (m.data === 'leave') leave(tab)
    else {
      tabs.add(tab)
      // Who comes later is told at once how the stream stands.
      if (source?.readyState === EventSource.OPEN) tab.postMessage({ kind: 'open' })
      listen()
    }
  }
}
