import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { affected, connected, following, listen, queries, silent, slowly, stopListening } from './live'

// A service whose events are sent by hand.
class Stream extends EventTarget {
  static open: Stream[] = []
  static readonly OPEN = 1
  static readonly CLOSED = 2
  readyState = 1
  onopen?: () => void
  onerror?: () => void
  constructor(readonly url: string) {
    super()
    Stream.open.push(this)
  }
  close() {
    this.readyState = Stream.CLOSED
  }
  send(kind: string, data = '{}') {
    this.dispatchEvent(new MessageEvent(kind, { data }))
  }
}

let asked: string[]
const stream = () => Stream.open.at(-1) as Stream
const wait = (ms: number) => vi.advanceTimersByTimeAsync(ms)

beforeEach(() => {
  vi.useFakeTimers()
  vi.stubGlobal('EventSource', Stream)
  vi.stubGlobal('SharedWorker', undefined)
  Stream.open = []
  asked = []
  connected.value = true
  vi.spyOn(queries, 'invalidateQueries').mockImplementation(async (f) => void asked.push(String((f as { queryKey: unknown[] }).queryKey[0])))
  vi.spyOn(queries, 'isFetching').mockReturnValue(0)
  listen()
  stream().onopen?.()
})
afterEach(() => {
  stopListening()
  vi.restoreAllMocks()
  vi.unstubAllGlobals()
  vi.useRealTimers()
})

it('what shows a host is asked again when one changed, and nothing else is', async () => {
  stream().send('host')
  await wait(500)
  expect(asked.sort()).toEqual(['drift', 'host', 'hosts', 'keys'])
})

it('while hosts report, what follows from all of them is looked at now and then, and what costs much each minute', async () => {
  for (let i = 0; i < 120; i++) {
    stream().send('host')
    await wait(1000)
  }
  const times = (key: string) => asked.filter((k) => k === key).length
  expect(times('audit')).toBeGreaterThan(10)
  expect(times('audit')).toBeLessThan(30)
  expect(times('preview')).toBeGreaterThan(0)
  expect(times('preview')).toBeLessThanOrEqual(2)
})

it('many events in a second are one look or two', async () => {
  for (let i = 0; i < 50; i++) {
    stream().send('host')
    await wait(20)
  }
  await wait(1000)
  expect(asked.filter((k) => k === 'hosts').length).toBeLessThanOrEqual(3)
  expect(asked).toContain('hosts')
})

it('a look that is under way is not cut off, and what changed meanwhile is looked at after it', async () => {
  const under = vi.spyOn(queries, 'isFetching').mockReturnValue(1)
  stream().send('host')
  await wait(3000)
  expect(asked).toEqual([])
  under.mockReturnValue(0)
  await wait(500)
  expect(asked).toContain('hosts')
})

it('silence is told, and what was missed is asked for once it can be heard again', async () => {
  await wait(8000)
  expect(connected.value).toBe(true)
  await wait(2000)
  expect(connected.value).toBe(false)
  expect(asked).toEqual([])
  stream().send('beat')
  expect(connected.value).toBe(true)
  await wait(500)
  expect(asked).toEqual(expect.arrayContaining(['hosts', 'drift', 'rollouts', 'preview', 'contracts']))
})

it('a beat alone asks for nothing', async () => {
  for (let i = 0; i < 10; i++) {
    stream().send('beat')
    await wait(5000)
  }
  expect([connected.value, asked]).toEqual([true, []])
})

it('what was missed of a stream that ran over is everything', async () => {
  stream().send('all')
  await wait(500)
  expect(asked).toEqual(expect.arrayContaining(['hosts', 'audit', 'revisions', 'seats', 'repositories']))
})

it('while hosts report, what follows from all of them is looked at now and then', async () => {
  for (let i = 0; i < 20; i++) {
    stream().send('rollout', '{"command":"report"}')
    await wait(500)
  }
  expect(asked.filter((k) => k === 'preview').length).toBeLessThanOrEqual(2)
  expect(asked.filter((k) => k === 'rollout').length).toBeGreaterThan(5)
  stream().send('rollout', '{"command":"stop-rollout"}')
  asked = []
  await wait(500)
  expect(asked).toContain('preview')
})

it('an error asks whether the session stands, and a stream that was ended is taken up again', async () => {
  stream().readyState = Stream.CLOSED
  stream().onerror?.()
  expect(connected.value).toBe(false)
  expect(asked).toEqual(['session'])
  await wait(3500)
  expect(Stream.open.length).toBe(2)
})

it('who left is told no more', async () => {
  const left = stream()
  stopListening()
  expect(left.readyState).toBe(Stream.CLOSED)
  await wait(20_000)
  expect(connected.value).toBe(true)
})

it('whatever a page asks for is asked again when an event says that it changed', () => {
  const texts = import.meta.glob(['./**/*.vue', './**/*.ts', '!./**/*.test.ts', '!./api.gen.ts'], { query: '?raw', import: 'default', eager: true })
  const keys = new Set(Object.values(texts as Record<string, string>).flatMap((t) => [...t.matchAll(/queryKey: (?:computed\(\(\) => )?\['([\w-]+)'/g)].map((m) => m[1] as string)))
  const told = new Set([...Object.values(affected), ...Object.values(following), ...Object.values(slowly)].flat())
  expect(keys.size).toBeGreaterThan(15)
  expect([...keys].filter((k) => !told.has(k) && !silent.includes(k))).toEqual([])
  expect([...told, ...silent].filter((k) => !keys.has(k))).toEqual([])
})
