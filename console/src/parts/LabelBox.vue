<script setup lang="ts">
// Gives a label to many hosts, or takes it away; says before what would come of it.
import { computed, ref, watch } from 'vue'
import { useQueryClient } from '@tanstack/vue-query'
import { client, told, type Schemas } from '../api'
import { count, short } from '../words'
import Same from './Same.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ hosts: string[] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const queries = useQueryClient()
const name = ref('')
const value = ref('')
const away = ref(false)
const busy = ref(false)
const error = ref<Error | null>(null)
const would = ref<Schemas['Labelled'] | null>(null)
const order = computed(() => (away.value ? { to: props.hosts, unset: [name.value.trim()] } : { to: props.hosts, set: { [name.value.trim()]: value.value.trim() } }))
const ready = computed(() => name.value.trim() !== '' && (away.value || value.value.trim() !== ''))

watch(open, (o) => {
  if (!o) return
  name.value = value.value = ''
  away.value = false
  would.value = error.value = null
})
// What was worked out is about what stood there then.
watch([name, value, away], () => (would.value = null))

async function send(trial: boolean) {
  busy.value = true
  error.value = null
  try {
    const l = await told(client.POST('/api/labels', { body: { ...order.value, try: trial } }))
    if (trial) {
      would.value = l
      return
    }
    open.value = false
    await queries.invalidateQueries({ queryKey: ['hosts'] })
    emit('done')
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = false
  }
}
const same = computed(() => `lantern host label ${props.hosts.slice(0, 3).map(short).join(' ')}${props.hosts.length > 3 ? ' …' : ''} ${name.value.trim() || 'KEY'}${away.value ? '-' : '=' + (value.value.trim() || 'VALUE')}`)
</script>

<template>
  <el-dialog v-model="open" :title="`Label ${count(props.hosts.length, 'host', 'hosts')}`" width="560">
    <Trouble :error="error" />
    <div class="line">
      <el-input v-model="name" placeholder="Label, such as site" aria-label="Name of the label" />
      <template v-if="!away">=<el-input v-model="value" placeholder="Value, such as reef" aria-label="Value of the label" /></template>
    </div>
    <el-checkbox v-model="away">take the label away</el-checkbox>
    <template v-if="would">
      <p><b>{{ count(would.relabelled, 'host', 'hosts') }}</b> would have other labels<template v-if="would.kept">; {{ count(would.kept, 'is', 'are') }} already so</template>.</p>
      <ul v-if="would.moves.length">
        <template v-for="m in would.moves" :key="m.group">
          <li v-if="m.come">+ {{ count(m.come, 'host comes', 'hosts come') }} into the group {{ m.group }}</li>
          <li v-if="m.leave">− {{ count(m.leave, 'host leaves', 'hosts leave') }} the group {{ m.group }}</li>
        </template>
      </ul>
      <p v-if="would.revision === 0" class="warn">? Nothing is published: which groups they come into, and what a policy says of them, is not known.</p>
      <p v-else>The newest revision says something else of <b :class="{ warn: would.changing }">{{ count(would.changing, 'host', 'hosts') }}</b> by it. Nothing is carried there before a rollout begins.</p>
      <p v-if="would.unknown" class="warn">? {{ count(would.unknown, 'host has', 'hosts have') }} sent no survey: what comes of it there is not known.</p>
    </template>
    <Same :command="same" />
    <template #footer>
      <el-button @click="open = false">Not now</el-button>
      <el-button v-if="!would" type="primary" :disabled="!ready" :loading="busy" @click="send(true)">See what comes of it</el-button>
      <el-button v-else type="primary" :disabled="would.relabelled === 0" :loading="busy" @click="send(false)">Label them</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.line {
  display: flex;
  align-items: center;
  gap: 8px;
}
ul {
  margin: 0 0 12px;
  padding-left: 18px;
  list-style: none;
}
</style>
