import { mount } from '@vue/test-utils'
import { expect, it } from 'vitest'
import Follows from './Follows.vue'

const files = {
  'channels.yaml': 'channels:\n  gannet:\n    licensed: { repository: a }\n    open: { repository: b }\n',
  'hosts.yaml': 'assign:\n  - to: gateways\n    channels: { gannet: open } # kept\n  - to: [charts, archives]\n    channels: { gannet: licensed }\n',
}
const select = { props: ['modelValue'], emits: ['update:modelValue'], template: '<select :value="modelValue" @change="$emit(\'update:modelValue\', $event.target.value)"><slot /></select>' }
const option = { props: ['value', 'label'], template: '<option :value="value">{{ label }}</option>' }
const shown = (mayChange: boolean, given: Record<string, string> = files) => mount(Follows, { props: { files: given, mayChange }, global: { stubs: { 'el-select': select, 'el-option': option } } })

it('each group and what it follows is shown, with the other choices', () => {
  const page = shown(true)
  expect(page.findAll('li').map((l) => l.find('span').text())).toEqual(['gateways in channel gannet follows', 'charts, archives in channel gannet follow'])
  expect(page.findAll('select').map((s) => s.element.value)).toEqual(['open', 'licensed'])
  expect(page.find('select').findAll('option').map((o) => o.text())).toEqual(['licensed', 'open'])
})

it('another choice is one word of one file', async () => {
  const page = shown(true)
  await page.findAll('select')[0]?.setValue('licensed')
  expect(page.emitted('change')).toEqual([['hosts.yaml', files['hosts.yaml'].replace('gannet: open }', 'gannet: licensed }')]])
})

it('a reader sees it and changes nothing', () => {
  const page = shown(false)
  expect(page.find('select').exists()).toBe(false)
  expect(page.text()).toContain('licensed')
})

it('a folder without channels shows nothing', () => expect(shown(true, { 'policy.yaml': 'repositories: {}\n' }).text()).toBe(''))
