import { mount } from '@vue/test-utils'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { defineComponent, h } from 'vue'
import { answered, serviceNow, useNow } from './now'

const right = Date.parse('2026-11-25T12:00:00Z')
beforeEach(() => void vi.useFakeTimers({ now: right }))
afterEach(() => {
  answered(new Date(Date.now()).toUTCString())
  vi.useRealTimers()
})
const ahead = (seconds: number) => new Date(right + seconds * 1000).toUTCString()

it.each([[7200, 7200], [-86_400, -86_400], [2, 0], [-2, 0], [0, 0]])('a service whose clock is %d s ahead is taken to be %d s ahead', (apart, taken) => {
  answered(ahead(apart))
  expect((serviceNow() - right) / 1000).toBeCloseTo(taken, -0.5)
})

it('what is no date changes nothing', () => {
  answered(ahead(3600))
  const before = serviceNow()
  for (const odd of [null, '', 'yesterday']) answered(odd)
  expect(serviceNow()).toBe(before)
})

it('ages step on while a page is shown, and stop when it is left', async () => {
  let now!: ReturnType<typeof useNow>
  const page = mount(defineComponent({ setup: () => { now = useNow(); return () => h('p') } }))
  const begun = now.value
  await vi.advanceTimersByTimeAsync(11_000)
  expect(now.value - begun).toBe(10_000)
  page.unmount()
  const left = now.value
  await vi.advanceTimersByTimeAsync(60_000)
  expect(now.value).toBe(left)
})
