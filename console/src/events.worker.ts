// One stream of events for every tab of the console: with a stream each, the seventh tab would
// wait for ever.
/// <reference lib="webworker" />
import { follow } from './events'

const tabs = new Set<MessagePort>()
let stream: ReturnType<typeof follow> | undefined

;(self as unknown as SharedWorkerGlobalScope).onconnect = (e) => {
  const tab = e.ports[0]
  if (!tab) return
  tab.onmessage = (m: MessageEvent<'listen' | 'leave'>) => {
    if (m.data === 'listen') {
      tabs.add(tab)
      // Who comes later is told at once how the stream stands.
      if (stream?.isOpen()) tab.postMessage({ kind: 'open' })
      stream ??= follow((what) => tabs.forEach((t) => t.postMessage(what)))
      return
    }
    tabs.delete(tab)
    if (tabs.size) return
    stream?.close()
    stream = undefined
  }
}
