import { mount } from '@vue/test-utils'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { defineComponent, h, nextTick } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'
import { useAddress } from './address'

async function at(path: string) {
  let list!: ReturnType<typeof useAddress>
  const page = defineComponent({ setup: () => { list = useAddress(); return () => h('p') } })
  const router = createRouter({ history: createMemoryHistory(), routes: [{ path: '/hosts', component: page }] })
  await router.push(path)
  mount(page, { global: { plugins: [router] } })
  return { list, query: () => router.currentRoute.value.query }
}

beforeEach(() => void vi.useFakeTimers())
afterEach(() => void vi.useRealTimers())
const settle = async () => { await vi.advanceTimersByTimeAsync(300); await nextTick() }

it('what a list shows is read from its address', async () => {
  const { list } = await at('/hosts?state=drifted,failed&page=3&sort=-name&q=gw')
  expect([list.picked.value, list.page.value, list.sort.value, list.q.value]).toEqual([['drifted', 'failed'], 3, '-name', 'gw'])
})

it.each([['0', 1], ['-4', 1], ['x', 1], ['7', 7]])('page %s is page %d', async (text, want) => expect((await at(`/hosts?page=${text}`)).list.page.value).toBe(want))

it('what is typed is written once somebody pauses, and begins at the first page', async () => {
  const { list, query } = await at('/hosts?page=9&state=new')
  for (const q of ['g', 'gw', 'gw-0']) {
    list.q.value = q
    await vi.advanceTimersByTimeAsync(100)
  }
  expect(query().q).toBeUndefined()
  await settle()
  expect(query()).toEqual({ q: 'gw-0', state: 'new' })
})

it('a state is taken up and left again', async () => {
  const { list, query } = await at('/hosts?state=new')
  list.toggle('failed')
  await settle()
  expect(query().state).toBe('new,failed')
  list.toggle('new')
  await settle()
  list.toggle('failed')
  await settle()
  expect(query()).toEqual({})
})

it('a box holds what is typed until it is sent off, and follows the address', async () => {
  const { list } = await at('/hosts?where=os.major')
  const box = list.field('where')
  box.value = 'os.major >= 12'
  expect(list.text('where')).toBe('os.major')
  list.go({ where: 'cpu.level > 2' })
  await settle()
  expect(box.value).toBe('cpu.level > 2')
})
