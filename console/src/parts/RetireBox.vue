<script setup lang="ts">
// Forgets many hosts, one after another; says before what goes with them.
import { computed, ref, watch } from 'vue'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { client, told } from '../api'
import { count, short } from '../words'
import Same from './Same.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ hosts: string[] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const queries = useQueryClient()
const busy = ref(false)
const gone = ref(0)
const sure = ref(false)
const error = ref<Error | null>(null)
watch(open, (o) => {
  if (!o) return
  gone.value = 0
  sure.value = false
  error.value = null
})
const seats = useQuery({ queryKey: ['seats', 'retire'], queryFn: () => told(client.GET('/api/seats', { params: { query: { per_page: 1000 } } })), enabled: open })
const freed = computed(() => (seats.data.value?.items ?? []).filter((s) => props.hosts.includes(s.host)).length)
const whole = computed(() => seats.data.value !== undefined && seats.data.value.items.length === seats.data.value.total)

async function retire() {
  busy.value = true
  error.value = null
  gone.value = 0
  try {
    for (const name of props.hosts) {
      await told(client.DELETE('/api/hosts/{name}', { params: { path: { name } } }))
      gone.value++
    }
    open.value = false
    emit('done')
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = false
    await queries.invalidateQueries({ queryKey: ['hosts'] })
  }
}
</script>

<template>
  <el-dialog v-model="open" :title="`Retire ${count(props.hosts.length, 'host', 'hosts')}`" width="560">
    <Trouble :error="error" />
    <p v-if="error && gone" class="warn">! {{ count(gone, 'host is', 'hosts are') }} forgotten, the others are still here.</p>
    <p>They are forgotten by the service; their files stay as they are, and their agents are to be stopped. To come back, a host is invited anew.</p>
    <p class="names">{{ props.hosts.slice(0, 24).map(short).join(', ') }}<template v-if="props.hosts.length > 24"> and {{ props.hosts.length - 24 }} more</template></p>
    <p v-if="seats.error.value" class="warn">? Whether they have seats is not known; seats that they have go back.</p>
    <p v-else-if="seats.data.value"><template v-if="whole">{{ count(freed, 'seat goes', 'seats go') }} back.</template><template v-else>Seats that they have go back.</template></p>
    <el-checkbox v-model="sure">Yes, forget {{ count(props.hosts.length, 'host', 'hosts') }}</el-checkbox>
    <Same :command="`lantern host retire ${props.hosts.slice(0, 3).map(short).join(' ')}${props.hosts.length > 3 ? ' …' : ''} --yes`" />
    <template #footer>
      <el-button @click="open = false">Not now</el-button>
      <el-button type="danger" :disabled="!sure" :loading="busy" @click="retire">Retire them<template v-if="busy"> ({{ gone }})</template></el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.names {
  overflow-wrap: anywhere;
}
</style>
