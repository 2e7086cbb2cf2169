// What the one who is signed in may do.
import { computed } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { client, told } from './api'

export function useSession(enabled: () => boolean = () => true) {
  return useQuery({ queryKey: ['session'], queryFn: () => told(client.GET('/api/session')), enabled: computed(enabled) })
}

/** Whether changes are offered: readers look. */
export function useMayChange() {
  const session = useSession()
  return computed(() => session.data.value?.role === 'operator')
}
