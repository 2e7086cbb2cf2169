<script setup lang="ts">
// One place that packages come from: what stands there, who signs it, and who uses it.
import { computed } from 'vue'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { useAddress } from '../address'
import { client, told } from '../api'
import { useNow } from '../now'
import Asked from '../parts/Asked.vue'
import Mark from '../parts/Mark.vue'
import Moment from '../parts/Moment.vue'
import Same from '../parts/Same.vue'
import { useMayChange } from '../role'
import { ago, count, placeLook, seen, sentence } from '../words'

const props = defineProps<{ key_: string }>()
const now = useNow()
const mayChange = useMayChange()
const queries = useQueryClient()
const { page, turned } = useAddress()
const perPage = 100
const got = useQuery({
  queryKey: computed(() => ['repositories', 'one', props.key_, page.value]),
  queryFn: () => told(client.GET('/api/repositories/{key}', { params: { path: { key: props.key_ }, query: { page: page.value, per_page: perPage } } })),
  placeholderData: keepPreviousData,
})
const r = computed(() => got.data.value)
const found = computed(() => r.value?.look.found)
const probe = useMutation({
  mutationFn: () => told(client.POST('/api/repositories/probe', { body: { which: [props.key_] } })),
  onSettled: () => queries.invalidateQueries({ queryKey: ['repositories'] }),
})

// What stands in a row of a table, so that its columns are checked against the service's answers.
type KeyRow = NonNullable<NonNullable<typeof r.value>['keys']>[number]
type HostRow = NonNullable<NonNullable<typeof r.value>['on']>[number]
</script>

<template>
  <p class="soft"><router-link :to="{ name: 'repositories' }">Repositories</router-link></p>
  <Asked :of="[got, probe]" />
  <template v-if="r">
    <div class="head">
      <h1>{{ r.names.join(', ') || r.address }} <span class="soft">for {{ r.family }}</span></h1>
      <Mark :look="placeLook[r.look.state]" :word="seen(r.look)" />
      <el-button v-if="mayChange" :loading="probe.isPending.value" @click="probe.mutate()">Look now</el-button>
    </div>
    <div v-if="r.look.why" class="card why" :class="{ bad: r.look.state === 'trouble' }">
      <b>{{ r.look.why }}.</b>
      <div v-if="r.look.remedy">{{ sentence(r.look.says ?? '') }}; {{ r.look.remedy }}.</div>
      <div v-if="r.look.by" class="mono small">signed by {{ r.look.by }}</div>
    </div>
    <el-descriptions border :column="1">
      <el-descriptions-item label="Address"><span class="mono">{{ r.urls.join(' ') || r.mirrorlist || r.metalink }} {{ r.suite }} {{ r.components?.join(' ') }}</span></el-descriptions-item>
      <el-descriptions-item v-if="r.architectures?.length" label="Architectures">{{ r.architectures.join(', ') }}</el-descriptions-item>
      <el-descriptions-item v-if="r.opened_by?.length" label="Opened by">{{ r.opened_by.join(', ') }}</el-descriptions-item>
      <el-descriptions-item v-if="r.through?.length" label="Through"><span class="mono">{{ r.through.join(', ') }}</span></el-descriptions-item>
      <el-descriptions-item label="Looked at">{{ ago(r.look.checked, now) }}<span class="soft"><template v-if="r.look.since">, so since <Moment :at="r.look.since" /></template></span></el-descriptions-item>
      <el-descriptions-item label="Believed last"><template v-if="found">{{ ago(r.look.read, now) }}: {{ count(r.look.package_count, 'package', 'packages') }}<template v-if="found.date">, made <Moment :at="found.date" /></template><template v-if="found.valid_until">, good until <Moment :at="found.valid_until" /></template></template><span v-else class="warn">never</span></el-descriptions-item>
      <el-descriptions-item v-if="r.look.changes" label="Changed">{{ ago(r.look.changed, now) }}: {{ r.look.changes.added }} new, {{ r.look.changes.removed }} gone, {{ r.look.changes.updated }} in other versions<div v-for="n in r.look.changes.names" :key="n" class="mono small">{{ n }}</div></el-descriptions-item>
      <el-descriptions-item v-for="w in r.witnesses" :key="w.package" label="Witness"><span :class="{ warn: !w.ok }">{{ w.package }} {{ w.offered ? `is offered at ${w.offered}` : 'is not offered' }}{{ w.at_least ? `, wanted is ${w.at_least}` : '' }}</span></el-descriptions-item>
      <el-descriptions-item v-if="found?.notes?.length" label="Notes"><div v-for="n in found.notes" :key="n">{{ n }}</div></el-descriptions-item>
    </el-descriptions>
    <h2>Keys that hosts believe it by</h2>
    <div class="card">
      <el-table :data="r.keys ?? []" row-key="fingerprint" empty-text="No host holds it against a key">
        <el-table-column label="Key" min-width="220"><template #default="{ row }: { row: KeyRow }"><router-link :to="{ name: 'key', params: { key: row.fingerprint } }">{{ row.policy || 'not in the policy' }}</router-link></template></el-table-column>
        <el-table-column label="Fingerprint" min-width="400"><template #default="{ row }: { row: KeyRow }"><span class="mono">{{ row.fingerprint }}</span></template></el-table-column>
        <el-table-column label="Signs it today" width="150"><template #default="{ row }: { row: KeyRow }"><Mark v-if="row.signs" :look="placeLook.good" word="yes" /><span v-else class="soft">no</span></template></el-table-column>
      </el-table>
    </div>
    <h2>{{ count(r.on_total ?? 0, 'host gets', 'hosts get') }} packages from it <router-link class="small" :to="{ name: 'fleet', query: { has: r.key } }">their states</router-link></h2>
    <div class="card">
      <el-table :data="r.on ?? []" row-key="host">
        <el-table-column label="Host" min-width="210"><template #default="{ row }: { row: HostRow }"><router-link :to="{ name: 'host', params: { name: row.host } }">{{ row.host }}</router-link></template></el-table-column>
        <el-table-column prop="os" label="System" width="220" />
        <el-table-column label="Stands in" min-width="300"><template #default="{ row }: { row: HostRow }"><span class="mono">{{ row.file }}</span></template></el-table-column>
      </el-table>
    </div>
    <el-pagination v-if="(r.on_total ?? 0) > perPage" v-model:current-page="turned" class="pages" layout="prev, pager, next, total" :total="r.on_total ?? 0" :page-size="perPage" />
    <Same :command="`lantern repository show ${r.names[0] || r.address}`" />
  </template>
</template>

<style scoped>
.head {
  justify-content: flex-start;
  gap: 4px 16px;
}
.head > .el-button {
  margin-left: auto;
}
h1,
code {
  overflow-wrap: anywhere;
}
.why {
  padding: 12px 14px;
  margin-bottom: 14px;
  overflow-wrap: anywhere;
}
</style>
