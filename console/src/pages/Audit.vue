<script setup lang="ts">
// What people did, and what became of rollouts: kept in a chain that shows changes.
import { computed, ref } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useAddress } from '../address'
import { client, told, type Schemas } from '../api'
import { useNow } from '../now'
import Asked from '../parts/Asked.vue'
import Mark from '../parts/Mark.vue'
import { ago, count, exact, short } from '../words'

const now = useNow()
const { text, go } = useAddress()
const by = ref(text('by'))
const before = computed(() => Number(text('before')) || undefined)
type Kind = Schemas['AuditEntry']['kind']
const every: Record<Kind, true> = { host: true, rollout: true, revision: true, proposal: true, waiver: true, freeze: true, seats: true, repository: true, operator: true, secrets: true, webhook: true, shelf: true, day: true }
const kinds = Object.keys(every) as Kind[]
const kind = computed(() => kinds.find((k) => k === text('kind')))
const audit = useQuery({
  queryKey: computed(() => ['audit', text('by'), kind.value, text('name'), before.value]),
  queryFn: () => told(client.GET('/api/audit', { params: { query: { per_page: 50, by: text('by') || undefined, kind: kind.value, name: text('name') || undefined, before: before.value } } })),
  placeholderData: keepPreviousData,
})
const chain = useQuery({ queryKey: ['audit', 'chain'], queryFn: () => told(client.GET('/api/audit/chain')), enabled: false })
const who = (name: string) => (name.startsWith('host:') ? short(name.slice(5)) : name.replace(/^operator:/, ''))
const link = (e: { kind?: string; name?: string }) => ((e.kind === 'host' || e.kind === 'seats') && e.name ? { name: 'host', params: { name: e.name } } : e.kind === 'rollout' && e.name ? { name: 'rollout', params: { id: e.name } } : null)

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = NonNullable<typeof audit.data.value>['items'][number]
</script>

<template>
  <div class="head">
    <h1>What was done, the newest first</h1>
    <span class="tools">
      <el-input v-model="by" size="small" clearable placeholder="by whom" aria-label="By whom" style="width: 150px" @change="go({ by, before: undefined })" />
      <el-select :model-value="kind" size="small" clearable placeholder="of every kind" aria-label="Kind" style="width: 150px" @change="(v: string) => go({ kind: v, before: undefined })"><el-option v-for="k in kinds" :key="k" :value="k" :label="k" /></el-select>
      <el-button size="small" :loading="chain.isFetching.value" @click="chain.refetch()">Check the chain</el-button>
    </span>
  </div>
  <Asked :of="[audit, chain]" />
  <p v-if="chain.data.value" role="status">
    <Mark v-if="chain.data.value.whole" :look="{ sign: '=', tone: 'good' }" :word="`${count(chain.data.value.entries, 'entry follows', 'entries follow')} from each other`" /><Mark v-else :look="{ sign: '!!', tone: 'bad' }" :word="`entry ${chain.data.value.broken} does not follow from those before`" />
    <span class="soft"> Note the head elsewhere, and ask for it the next time: <span class="mono">{{ chain.data.value.head }}</span>, as <code>lantern audit verify --noted HEAD</code></span>
  </p>
  <div v-if="audit.data.value" class="card">
    <el-table :data="audit.data.value.items" row-key="number" empty-text="There is no such entry">
      <el-table-column label="No." prop="number" width="80" align="right" />
      <el-table-column label="When" width="130"><template #default="{ row }: { row: Row }"><span :title="exact(row.at)">{{ ago(row.at, now) }}</span></template></el-table-column>
      <el-table-column label="By" width="150" show-overflow-tooltip><template #default="{ row }: { row: Row }">{{ who(row.by) }}</template></el-table-column>
      <el-table-column label="What" width="190"><template #default="{ row }: { row: Row }"><b>{{ row.what.replaceAll('-', ' ') }}</b></template></el-table-column>
      <el-table-column label="To" min-width="190"><template #default="{ row }: { row: Row }">{{ row.kind }} <router-link v-if="link(row)" :to="link(row)!">{{ short(row.name ?? '') }}</router-link><template v-else>{{ row.name }}</template></template></el-table-column>
      <el-table-column label="Why" min-width="240"><template #default="{ row }: { row: Row }">{{ row.why }}<template v-if="row.why && row.says"> · </template><span v-if="row.says" class="soft">{{ row.says }}</span><template v-else-if="!row.why">–</template></template></el-table-column>
    </el-table>
  </div>
  <p class="buttons">
    <router-link v-if="before" :to="{ query: { ...$route.query, before: undefined } }">The newest</router-link>
    <router-link v-if="audit.data.value?.next" :to="{ query: { ...$route.query, before: String(audit.data.value.next) } }">Earlier ones</router-link>
  </p>
</template>
