<script setup lang="ts">
// One signing key, and every host that believes it.
import { computed } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useActing } from '../acting'
import { useAddress } from '../address'
import { client, told } from '../api'
import { csv, every, keep } from '../csv'
import { useMayChange } from '../role'
import Asked from '../parts/Asked.vue'
import Copy from '../parts/Copy.vue'
import Mark from '../parts/Mark.vue'
import Moment from '../parts/Moment.vue'
import Silent from '../parts/Silent.vue'
import Trouble from '../parts/Trouble.vue'
import { count, keyLook, keyWord } from '../words'

const props = defineProps<{ key_: string }>()
const mayChange = useMayChange()
const { text, page, turned, q, word } = useAddress()
const perPage = 100
const scope = word('scope')
const withIdle = word('idle')
const idle = computed({ get: () => withIdle.value === 'yes', set: (on: boolean) => (withIdle.value = on ? 'yes' : '') })
const asked = computed(() => ({ q: text('q'), scope: scope.value as 'any' | 'named' | '', idle: idle.value }))
const ask = (n: number, per_page: number) => told(client.GET('/api/keys/{key}', { params: { path: { key: props.key_ }, query: { ...asked.value, page: n, per_page } } }))
const got = useQuery({
  queryKey: computed(() => ['keys', 'one', props.key_, asked.value, page.value]),
  queryFn: () => ask(page.value, perPage),
  placeholderData: keepPreviousData,
})
const k = computed(() => got.data.value)

const { error, busy, act } = useActing()
const save = () => act(async () => {
  const all = await every((n) => ask(n, 1000).then((d) => ({ items: d.on, total: d.total })))
  const rows = all.map((h) => ({ ...h, system: h.os, stands_in: h.stands_in.join(' '), named_by: h.sources.join(' ') }))
  keep(`${k.value?.policy || props.key_}.csv`, csv(['host', 'system', 'scope', 'used', 'because', 'stands_in', 'named_by'], rows))
})

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = NonNullable<NonNullable<typeof k.value>['on']>[number]
</script>

<template>
  <p class="soft"><router-link :to="{ name: 'keys' }">Keys</router-link></p>
  <Asked :of="[got]" />
  <template v-if="k">
    <div class="head">
      <h1>{{ count(k.hosts, 'host believes', 'hosts believe') }} {{ k.policy || k.user_ids[0] || 'this key' }}</h1>
      <Mark :look="keyLook[k.state]" :word="keyWord[k.state] ?? k.state" />
    </div>
    <el-descriptions border :column="1">
      <el-descriptions-item label="Fingerprint"><span class="mono">{{ k.fingerprint }}</span> <Copy :text="k.fingerprint" what="the fingerprint" /></el-descriptions-item>
      <el-descriptions-item label="Of"><div v-for="id in k.user_ids" :key="id">{{ id }}</div></el-descriptions-item>
      <el-descriptions-item v-if="k.withdrawn_because" label="Withdrawn"><span class="bad">{{ k.withdrawn_because }}</span></el-descriptions-item>
      <el-descriptions-item label="Algorithm">{{ k.algorithm }}<span v-if="k.weakness" class="warn">, weak: {{ k.weakness }}</span></el-descriptions-item>
      <el-descriptions-item label="Life">made <Moment :at="k.created" day />, <template v-if="k.expires">ends <Moment :at="k.expires" day /></template><template v-else>never ends</template></el-descriptions-item>
      <el-descriptions-item label="Policy"><span v-if="!k.policy" class="warn">does not know it</span><template v-else>{{ k.policy }}, for {{ k.for_repositories.length ? k.for_repositories.join(', ') : 'no repository' }}</template></el-descriptions-item>
      <el-descriptions-item label="Believed for"><span :class="{ warn: k.wide }">{{ k.believed_for || '–' }}</span><span v-if="k.idle" class="soft">; {{ count(k.idle, 'more host has', 'more hosts have') }} it and nothing uses it</span></el-descriptions-item>
      <el-descriptions-item label="Signs today">{{ k.signs_places ? count(k.signs_places, 'place of packages', 'places of packages') : 'nothing that was seen' }}</el-descriptions-item>
      <el-descriptions-item v-if="k.replacement" label="Replacement">{{ k.replacement }}<template v-if="k.may_go && mayChange">. <router-link :to="{ name: 'policy', query: { retire: k.policy } }">Take it out of the policy</router-link></template></el-descriptions-item>
    </el-descriptions>
    <p v-if="k.unknown" class="warn"><b>? Not known of {{ count(k.unknown, 'host', 'hosts') }}</b> without a survey.</p>
    <p v-if="k.silent"><Silent :hosts="k.silent" :names="k.silent_names" /></p>
    <div class="tools">
      <el-input v-model="q" class="search" placeholder="Host, system or file" clearable aria-label="Filter hosts" />
      <el-select v-model="scope" :empty-values="[null, undefined]" style="width: 220px" aria-label="Believed for">
        <el-option value="" label="believed for anything" />
        <el-option value="any" label="for every source" />
        <el-option value="named" label="for named sources" />
      </el-select>
      <el-switch v-if="k.idle" v-model="idle" aria-label="Also where nothing uses it" active-text="also where nothing uses it" />
      <el-button :loading="busy" @click="save">Save as CSV</el-button>
    </div>
    <Trouble class="told" :error="error" />
    <div class="card">
      <el-table :data="k.on" row-key="host" empty-text="No host that is meant believes it">
        <el-table-column label="Host" min-width="210"><template #default="{ row }: { row: Row }"><router-link :to="{ name: 'host', params: { name: row.host } }">{{ row.host }}</router-link></template></el-table-column>
        <el-table-column prop="os" label="System" width="170" />
        <el-table-column label="Believed for" width="180"><template #default="{ row }: { row: Row }"><span v-if="!row.used" class="soft">nothing: {{ row.because }}</span><span v-else-if="row.scope === 'any'" class="warn">every source</span><template v-else>named sources</template></template></el-table-column>
        <el-table-column label="Stands in" min-width="260"><template #default="{ row }: { row: Row }"><div v-for="w in row.stands_in" :key="w" class="mono">{{ w }}</div></template></el-table-column>
        <el-table-column label="Named by" min-width="260"><template #default="{ row }: { row: Row }"><div v-for="s in row.sources" :key="s" class="mono">{{ s }}</div></template></el-table-column>
      </el-table>
    </div>
    <el-pagination v-if="k.total > perPage" v-model:current-page="turned" class="pages" layout="prev, pager, next, total" :total="k.total" :page-size="perPage" />
    <p class="soft">The same on the command line: <code>lantern key show {{ k.policy || k.fingerprint }}</code><template v-if="k.may_go">, <code>lantern key retire {{ k.policy }} FOLDER</code></template></p>
  </template>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px 12px;
  margin: 14px 0 10px;
}
.search {
  width: 260px;
}
.head {
  justify-content: flex-start;
  gap: 4px 16px;
}
h1,
code {
  overflow-wrap: anywhere;
}
</style>
