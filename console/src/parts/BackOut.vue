<script setup lang="ts">
// Says what taking a rollout back does, and what it cannot, before somebody does it.
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useTrial } from '../acting'
import { client, told, type Rollout } from '../api'
import { count } from '../words'
import Same from './Same.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ id: number }>()
const open = defineModel<boolean>({ required: true })
const router = useRouter()
const busy = ref(false)
const { would, error, why } = useTrial<Rollout>(open, () =>
  told(client.POST('/api/rollouts/{id}/back-out', { params: { path: { id: props.id } }, body: { try: true } })),
)
const hosts = computed(() => Object.values(would.value?.counts ?? {}).reduce((a, b) => a + b, 0) - (would.value?.counts.skipped ?? 0))

async function backOut() {
  busy.value = true
  error.value = null
  try {
    const r = await told(client.POST('/api/rollouts/{id}/back-out', { params: { path: { id: props.id } }, body: { because: why.value.trim() } }))
    open.value = false
    await router.push({ name: 'rollout', params: { id: r.id } })
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <el-dialog v-model="open" class="back-out" :title="`Take rollout ${props.id} back`" width="620">
    <Trouble :error="error" />
    <template v-if="would">
      <p>{{ count(hosts, 'host puts', 'hosts put') }} back what stood there before, byte for byte, from copies of their own: those first that were changed last. A rollout that is under way is stopped.</p>
      <p v-for="u in would.unknown_names" :key="u" class="warn">! cannot be taken back: {{ u }}</p>
      <p v-for="d in would.dangers" :key="d" class="bad">!! comes back: {{ d }}</p>
      <el-input v-model="why" type="textarea" :rows="2" maxlength="500" placeholder="Why? It is kept beside your name." aria-label="Why" />
      <Same :command="`lantern rollout back-out ${props.id} --because … --yes`" />
    </template>
    <template #footer>
      <el-button @click="open = false">Not now</el-button>
      <el-button type="danger" :disabled="!would || why.trim().length < 3" :loading="busy" @click="backOut">Take it back</el-button>
    </template>
  </el-dialog>
</template>
