import { flushPromises, mount, type VueWrapper } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import Copy from './Copy.vue'
import Days from './Days.vue'
import Diff from './Diff.vue'

const global = { stubs: { 'el-button': { template: '<button><slot /></button>' } } }

describe('days', () => {
  const day = (n: number, more = {}) => ({ day: `2026-11-${String(n).padStart(2, '0')}`, arisen: 1, closed: 1, counted: true,
    standing: { hosts: 24, steady: 20, drifted: 3, failed: 1, silent: 0, no_survey: 0, no_revision: 0, changing: 0, older: 0 }, ...more })
  const drawn = (page: VueWrapper) => page.findAll('path').map((p) => (p.attributes('d') ?? '').split('M').length - 1) // stretches of each line
  const shown = (days: object[]) => mount(Days, { props: { days: days as never }, global })
  it('on which nobody counted are said to be gaps', () => {
    const page = shown([day(3), { ...day(2), counted: false, standing: undefined }, day(1)])
    expect(page.text()).toContain('On 1 day nobody counted')
    expect(drawn(page)).toContain(2)
  })
  it('without gaps are one line', () => {
    const page = shown([day(3), day(2), day(1)])
    expect(page.text()).not.toContain('nobody counted: how')
    expect(Math.max(...drawn(page))).toBe(1)
  })
})

describe('a copy button', () => {
  const press = async (clipboard: object | undefined, older: () => boolean) => {
    Object.defineProperty(navigator, 'clipboard', { configurable: true, value: clipboard })
    Object.defineProperty(document, 'execCommand', { configurable: true, value: older })
    const b = mount(Copy, { props: { text: 'ABCD', what: 'the fingerprint' }, global })
    await b.get('button').trigger('click')
    await flushPromises()
    return b.get('[role=status]').text()
  }
  const refuse = () => Promise.reject(new Error('not allowed'))
  const fail = () => { throw new Error('there is none') }
  it.each([
    ['by the clipboard', { writeText: () => Promise.resolve() }, fail, /^copied$/],
    ['in the older way where there is none', undefined, () => true, /^copied$/],
    ['in the older way where it is refused', { writeText: refuse }, () => true, /^copied$/],
    ['not at all, and says so', { writeText: refuse }, () => false, /does not let it be copied/],
    ['not at all where nothing is there', undefined, fail, /does not let it be copied/],
  ])('copies %s', async (_, clipboard, older, says) => expect(await press(clipboard, older)).toMatch(says))
})

it('folds keys until somebody wants to see them', async () => {
  const key = ['-----BEGIN PGP PUBLIC KEY BLOCK-----', 'a', 'b', '-----END PGP PUBLIC KEY BLOCK-----'].map((l) => `+${l}\n`).join('')
  const page = mount(Diff, { props: { text: `--- /dev/null\n+++ /etc/keys/x.asc\n@@ -0,0 +1,4 @@\n${key}` }, global })
  expect(page.text()).toContain('2 lines of the key')
  await page.get('button').trigger('click')
  expect(page.text()).not.toContain('2 lines of the key')
  expect(page.findAll('.line').length).toBe(4)
})
