import { beforeEach, expect, it } from 'vitest'
import { nextTick } from 'vue'
import { drop, keep, kept, views } from './views'

beforeEach(() => (views.value = []))

it('a view is kept under its name, the newest first', async () => {
  keep('gone silent', '/hosts?state=silent')
  keep('dangers', '/drift?severity=danger')
  keep('gone silent', '/hosts?state=silent,failed')
  expect(views.value).toEqual([{ name: 'gone silent', path: '/hosts?state=silent,failed' }, { name: 'dangers', path: '/drift?severity=danger' }])
  drop('gone silent')
  expect(views.value.map((v) => v.name)).toEqual(['dangers'])
  await nextTick()
  expect(JSON.parse(localStorage.getItem('lantern-views') ?? '')).toEqual(views.value)
})

it('no more are kept than a list shows', () => {
  for (let i = 0; i < 80; i++) keep(`view ${i}`, '/hosts')
  expect(views.value.length).toBe(50)
  expect(views.value[0]?.name).toBe('view 79')
})

it.each([
  ['not JSON', []], ['{}', []], ['null', []], ['[1, null, {"name": "x"}]', []],
  ['[{"name":"out","path":"//evil.example/"},{"name":"out","path":"https://evil.example/"}]', []],
  ['[{"name":"in","path":"/keys"}]', [{ name: 'in', path: '/keys' }]],
])('what stands in the browser and is none of ours is left alone: %s', (text, want) => expect(kept(text)).toEqual(want))
