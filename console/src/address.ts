// What a list shows stands in its address, so that it can be sent to a colleague.
import { watchDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** The filters, order and page of a list, which are read from the address and written to it. order is the usual one. */
export function useAddress(order = 'state') {
  const route = useRoute()
  const router = useRouter()
  const text = (k: string) => (typeof route.query[k] === 'string' ? (route.query[k] as string) : '')
  const picked = computed(() => text('state').split(',').filter(Boolean))
  /** turn is the page of a list that is shown, to be bound to the buttons below it. */
  const turn = (k: string) => computed({ get: () => Math.max(1, Number(text(k)) || 1), set: (n: number) => go({ [k]: n > 1 ? String(n) : undefined }) })
  const turned = turn('page')
  const sort = computed(() => text('sort') || order)
  const q = ref(text('q'))

  function go(change: Record<string, string | undefined>) {
    const query: Record<string, string> = {}
    for (const [k, v] of Object.entries({ ...route.query, page: undefined, ...change })) if (typeof v === 'string' && v) query[k] = v
    void router.replace({ query })
  }

  watchDebounced(q, (v) => go({ q: v }), { debounce: 200 })

  function toggle(state: string) {
    const set = new Set(picked.value)
    if (!set.delete(state)) set.add(state)
    go({ state: [...set].join(',') })
  }

  /** field is a box for one part of the address: it holds what is typed until that is sent off. */
  function field(k: string) {
    const typed = ref(text(k))
    watch(() => text(k), (v) => (typed.value = v))
    return typed
  }

  /** word is one part of the address, to be bound to a box or a switch; it says nothing of what is usual. */
  function word(k: string, usual = '') {
    return computed({ get: () => text(k) || usual, set: (v: string) => go({ [k]: v === usual ? undefined : v }) })
  }

  return { text, picked, page: turned, turn, turned, sort, q, go, toggle, field, word }
}
