<script setup lang="ts">
// Lets nothing begin for a while, on all hosts or on some.
import { computed, ref, watch } from 'vue'
import { useQueryClient } from '@tanstack/vue-query'
import { useActing } from '../acting'
import { client, told } from '../api'
import Same from './Same.vue'
import Trouble from './Trouble.vue'
import '../weeks'

const open = defineModel<boolean>({ required: true })
const queries = useQueryClient()
const where = ref('')
const why = ref('')
const until = ref(new Date())
const inHours = (h: number) => new Date(Date.now() + h * 3_600_000)
const { error, busy, act } = useActing()
watch(open, (o) => {
  if (!o) return
  where.value = why.value = ''
  until.value = inHours(4)
  error.value = null
})
const shortcuts = [{ text: 'in an hour', value: () => inHours(1) }, { text: 'in 4 hours', value: () => inHours(4) }, { text: 'in a day', value: () => inHours(24) }, { text: 'in 3 days', value: () => inHours(72) }]
const over = (d: Date) => d.getTime() < Date.now() - 86_400_000
const moment = computed(() => until.value.toISOString().replace(/\.\d+Z$/, 'Z'))
const freeze = () => act(async () => {
  await told(client.POST('/api/freezes', { body: { group: where.value.trim() || undefined, until: until.value.toISOString(), because: why.value.trim() } }))
  open.value = false
  await queries.invalidateQueries({ queryKey: ['freezes'] })
})
</script>

<template>
  <el-dialog v-model="open" title="Let nothing begin for a while" width="560" class="freeze">
    <p class="text">No rollout, healing or back-out begins on these hosts; a host that is at work ends what it began. What waits goes on when the freeze is over.</p>
    <Trouble :error="error" />
    <el-input v-model="where" placeholder="All hosts; or a group, a host, a range as gw-{01..04}" aria-label="Where" clearable />
    <div class="line">until <el-date-picker v-model="until" type="datetime" format="YYYY-MM-DD HH:mm" :clearable="false" :shortcuts="shortcuts" :disabled-date="over" aria-label="Until" /></div>
    <el-input v-model="why" type="textarea" :rows="2" maxlength="500" placeholder="Why? It is kept beside your name." aria-label="Why" />
    <Same :command="`lantern freeze add ${where.trim()} --until ${moment} --because &quot;${why.trim() || '…'}&quot;`" />
    <template #footer>
      <el-button @click="open = false">Not now</el-button>
      <el-button type="warning" :disabled="why.trim().length < 3" :loading="busy" @click="freeze">Freeze {{ where.trim() || 'the fleet' }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.text {
  margin: 0 0 12px;
}
.line {
  margin: 12px 0;
}
</style>
