<script setup lang="ts">
// The freezes that hold: where nothing begins, until when, and why; who may ends them.
import { computed } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { useActing } from '../acting'
import { client, told } from '../api'
import { useMayChange } from '../role'
import Moment from './Moment.vue'
import Trouble from './Trouble.vue'

const mayChange = useMayChange()
const freezes = useQuery({ queryKey: ['freezes'], queryFn: () => told(client.GET('/api/freezes')), refetchInterval: 60_000 })
const standing = computed(() => (freezes.data.value?.items ?? []).filter((f) => f.stands))
const { error, busy, act } = useActing()
const end = (id: number) => act(async () => {
  await told(client.DELETE('/api/freezes/{id}', { params: { path: { id } } }))
  await freezes.refetch()
})
</script>

<template>
  <Trouble :error="freezes.error.value ?? error" />
  <div v-for="f in standing" :key="f.id" class="card frozen">
    <span><b class="warn">! Nothing begins {{ f.group ? `on ${f.group}` : 'in the fleet' }}</b> until <Moment :at="f.until" /> <span class="soft">freeze {{ f.id }} by {{ f.author }}: {{ f.because }}</span></span>
    <el-popconfirm v-if="mayChange" title="Hosts begin again with what waits for them." confirm-button-text="End it" cancel-button-text="Not now" width="260" @confirm="end(f.id)">
      <template #reference><el-button size="small" :loading="busy" :title="`The same on the command line: lantern freeze end ${f.id}`">End the freeze</el-button></template>
    </el-popconfirm>
  </div>
</template>

<style scoped>
.frozen {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  align-items: center;
  gap: 8px 20px;
  padding: 8px 14px;
  margin: 12px 0;
  border-left: 4px solid var(--amber);
  overflow-wrap: anywhere;
}
</style>
