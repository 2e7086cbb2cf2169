// Views that somebody keeps: a list with its filters and order, under a name. They stay in this
// browser; the address is what one sends to a colleague.
import { ref } from 'vue'

export interface View {
  name: string
  path: string // with the query
}

const key = 'lantern-views'
const most = 50

function kept(): View[] {
  try {
    const list: unknown = JSON.parse(localStorage.getItem(key) ?? '[]')
    return Array.isArray(list) ? list.filter((v): v is View => typeof v?.name === 'string' && typeof v?.path === 'string' && v.path.startsWith('/') && !v.path.startsWith('//')) : []
  } catch {
    return [] // what stands there is none of ours
  }
}

export const views = ref<View[]>(kept())

function write(list: View[]) {
  views.value = list.slice(0, most)
  try {
    localStorage.setItem(key, JSON.stringify(views.value))
  } catch {
    // full, or forbidden: they last as long as the page
  }
}

/** keep puts a view under a name, in the place of one that had it. */
export function keep(name: string, path: string) {
  write([{ name, path }, ...views.value.filter((v) => v.name !== name)])
}

/** drop forgets a view. */
export function drop(name: string) {
  write(views.value.filter((v) => v.name !== name))
}
