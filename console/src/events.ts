// The service's stream of events, whoever holds it: a tab of its own, or the worker that all tabs
// share. A browser opens six connections to a service at most.

/** What the service tells of; `all` says that something was missed, `beat` that it lives. */
export const kinds = ['host', 'rollout', 'revision', 'proposal', 'waiver', 'freeze', 'seats', 'repository', 'webhook', 'shelf', 'day'] as const
export type Kind = (typeof kinds)[number]

/** What those who listen are told: an event, or how the stream stands. */
export type Told = { kind: Kind | 'all' | 'beat'; data: string } | { kind: 'open' } | { kind: 'error' }

/** A stream that is taken up again for as long as it is not closed. */
export function follow(tell: (what: Told) => void) {
  let source: EventSource | undefined
  let again: ReturnType<typeof setTimeout> | undefined
  function begin() {
    const s = (source = new EventSource('/api/events'))
    for (const kind of [...kinds, 'all', 'beat'] as const) s.addEventListener(kind, (e) => tell({ kind, data: (e as MessageEvent<string>).data }))
    s.onopen = () => tell({ kind: 'open' })
    s.onerror = () => {
      tell({ kind: 'error' })
      // One that the service ended is not taken up again by the browser.
      if (s.readyState === EventSource.CLOSED) again = setTimeout(begin, 3000)
    }
  }
  begin()
  return {
    isOpen: () => source?.readyState === EventSource.OPEN,
    close: () => {
      clearTimeout(again)
      source?.close()
    },
  }
}
