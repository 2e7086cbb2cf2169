<script setup lang="ts">
// Says how many hosts would be healed, or get a revision, and in which waves, before it begins.
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useTrial } from '../acting'
import { client, told, type Rollout, type Schemas } from '../api'
import { count, short } from '../words'
import Same from './Same.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ kind: 'heal' | 'carry'; title: string; order: Omit<Schemas['HealManyOrder'], 'because' | 'try'>; same: string }>()
const open = defineModel<boolean>({ required: true })
const router = useRouter()
const busy = ref(false)
const { would, error, why } = useTrial<Rollout>(open, () => send({ try: true }))
const unseen = computed(() => would.value?.counts.skipped ?? 0)
const all = computed(() => Object.values(would.value?.counts ?? {}).reduce((a, b) => a + b, 0) - unseen.value)
const already = computed(() => would.value?.counts.unchanged ?? 0)

function send(extra: { because?: string; try?: boolean; revision?: number }) {
  if (props.kind === 'heal') return told(client.POST('/api/heal', { body: { ...props.order, because: extra.because, try: extra.try } }))
  return told(client.POST('/api/rollouts', { body: { to: props.order.to, where: props.order.where, ...extra } }))
}

async function begin() {
  busy.value = true
  error.value = null
  try {
    // The revision is that of which the numbers are, whatever was published meanwhile.
    const r = await send({ because: why.value.trim(), revision: would.value?.revision || undefined })
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
  <el-dialog v-model="open" :title="props.title" width="620">
    <Trouble :error="error" />
    <p v-if="!would && !error" class="soft">Working out what would change …</p>
    <template v-if="would">
      <p>
        <b>{{ count(all - already, 'host', 'hosts') }}</b> in {{ count(would.wave_count, 'wave', 'waves') }}, each behind the gates of its plan<template v-if="would.revision">; revision {{ would.revision }}</template>.
        <template v-if="already">{{ count(already, 'is', 'are') }} as it should be already, and not asked.</template>
        <template v-if="props.kind === 'heal' && would.others">{{ count(would.others, 'is', 'are') }} being changed just now, and left alone.</template>
      </p>
      <ol>
        <li v-for="(p, i) in would.parts ?? []" :key="i"><b>{{ count(p.hosts, 'host', 'hosts') }}</b> <span class="soft">({{ p.what }}, plan {{ p.plan }})</span>: {{ (p.names ?? []).map(short).join(', ') }}<template v-if="p.hosts > (p.names ?? []).length"> …</template></li>
      </ol>
      <p v-if="unseen || would.unknown" class="warn">?<template v-if="unseen"> Nothing is carried to {{ count(unseen, 'host', 'hosts') }}: they sent no survey yet, or do not tell what the policy puts in.</template><template v-if="would.unknown"> Of {{ count(would.unknown, 'host', 'hosts') }} without a survey it is not known whether they are meant.</template></p>
      <p v-if="would.untouched" class="warn">? On {{ count(would.untouched, 'host', 'hosts') }} of them no file would change: the policy says nothing of what was found there. Take it into the policy, accept the host as it stands, or waive it.</p>
      <p v-if="would.took_over" class="warn">! Rollout {{ would.took_over }}, which is held, makes way.</p>
      <el-input v-model="why" type="textarea" :rows="2" maxlength="500" placeholder="Why? It is kept beside your name." aria-label="Why" />
      <Same :command="props.same" />
    </template>
    <template #footer>
      <el-button @click="open = false">Not now</el-button>
      <el-button type="primary" :disabled="!would || all === 0 || would.untouched === all || why.trim().length < 3" :loading="busy" @click="begin">{{ props.kind === 'heal' ? 'Heal them' : 'Begin it' }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
ol {
  margin: 0 0 12px;
  padding-left: 24px;
  overflow-wrap: anywhere;
}
</style>
