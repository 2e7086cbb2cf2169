import base from 'element-plus/theme-chalk/base.css?raw'
import dark from 'element-plus/theme-chalk/dark/css-vars.css?raw'
import { expect, it } from 'vitest'
import style from './style.css?raw'

it('every colour of Element Plus is of our palette, by day and by night', () => {
  const [day, night] = ['html:root,\nhtml:root.dark {', 'html.dark {'].map((open) => style.slice(style.indexOf(open), style.indexOf('\n}', style.indexOf(open))))
  const first = style.slice(0, style.indexOf('\n}'))
  const named = new Set([base, dark].flatMap((css) => [...css.matchAll(/--el-(?:color|fill-color|border-color|text-color|bg-color)[\w-]*(?=:)/g)].map((m) => m[0])))
  const unmapped = [...named].filter((n) => !/-(rgb|white|black|blank|hover)$/.test(n)).filter((n) => {
    const both = day?.includes(`${n}:`)
    return !both && !(first.includes(`${n}:`) && night?.includes(`${n}:`))
  })
  expect(named.size).toBeGreaterThan(40)
  expect(unmapped).toEqual([])
})
