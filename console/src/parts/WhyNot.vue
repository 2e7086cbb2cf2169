<script setup lang="ts">
// Which repositories of the policy a host has not, and why not.
import { computed, ref } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { client, told, type Schemas } from '../api'
import { count, short } from '../words'
import Trouble from './Trouble.vue'

type Repository = Schemas['RepositoryReason']

const props = defineProps<{ name: string }>()
const open = ref(false)
const q = ref('')
const most = 30
const explained = useQuery({
  queryKey: computed(() => ['host', props.name, 'explanation']),
  queryFn: () => told(client.GET('/api/hosts/{name}/explanation', { params: { path: { name: props.name } } })),
  enabled: open,
  retry: false,
})
const absent = computed(() => (explained.data.value?.repositories ?? []).filter((r) => r.state === 'absent' && r.name.includes(q.value.trim())))
function places(r: Repository) {
  return r.causes.flatMap((c) => (c.place ? [`${c.place.file}:${c.place.line}`] : [])).join('  ')
}

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = (typeof absent.value)[number]
</script>

<template>
  <details class="card pad" @toggle="open = ($event.target as HTMLDetailsElement).open">
    <summary>Why not others</summary>
    <Trouble :error="explained.error.value" />
    <template v-if="explained.data.value">
      <p class="pick">
        <el-input v-model="q" size="small" clearable placeholder="Name of a repository" aria-label="Filter repositories that the host has not" />
        <span class="soft" aria-live="polite">{{ count(absent.length, 'repository', 'repositories') }} of the policy {{ absent.length === 1 ? 'is' : 'are' }} not for this host</span>
        <code class="soft" title="The same on the command line">lantern explain {{ short(name) }} {{ absent[0]?.name ?? 'REPOSITORY' }}</code>
      </p>
      <el-table v-if="absent.length" :data="absent.slice(0, most)">
        <el-table-column prop="name" label="Repository" width="190" />
        <el-table-column label="Why not" min-width="300"><template #default="{ row }: { row: Row }"><div v-for="(c, i) in (row as Repository).causes" :key="i">{{ c.what }}</div></template></el-table-column>
        <el-table-column label="In the policy" min-width="260"><template #default="{ row }: { row: Row }"><span class="mono">{{ places(row as Repository) }}</span></template></el-table-column>
      </el-table>
      <p v-if="absent.length > most" class="soft">{{ absent.length - most }} more: type a part of the name.</p>
    </template>
  </details>
</template>

<style scoped>
.pad {
  padding: 10px 14px;
  margin-top: 10px;
}
summary {
  cursor: pointer;
}
.pick {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
}
.pick .el-input {
  width: 240px;
}
</style>
