// Views that somebody keeps: a list with its filters and order, under a name. They stay in this
// browser; the address is what one sends to a colleague.
import { useLocalStorage } from '@vueuse/core'

export interface View {
  name: string
  path: string // with the query
}

const most = 50

/** kept reads what stands in the browser; what is none of ours is none. */
export function kept(text: string): View[] {
  try {
    const list: unknown = JSON.parse(text)
    return Array.isArray(list) ? list.filter((v): v is View => typeof v?.name === 'string' && typeof v?.path === 'string' && v.path.startsWith('/') && !v.path.startsWith('//')) : []
  } catch {
    return []
  }
}

// Where the browser keeps nothing, because it is full or forbidden, they last as long as the page.
export const views = useLocalStorage<View[]>('lantern-views', [], { serializer: { read: kept, write: JSON.stringify }, onError: () => undefined, writeDefaults: false })

/** keep puts a view under a name, in the place of one that had it. */
export function keep(name: string, path: string) {
  views.value = [{ name, path }, ...views.value.filter((v) => v.name !== name)].slice(0, most)
}

/** drop forgets a view. */
export function drop(name: string) {
  views.value = views.value.filter((v) => v.name !== name)
}
