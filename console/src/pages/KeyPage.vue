<script setup lang="ts">
// One signing key, and every host that believes it.
import { computed, ref } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { client, told } from '../api'
import Copy from '../parts/Copy.vue'
import Mark from '../parts/Mark.vue'
import Trouble from '../parts/Trouble.vue'
import { count, date, keyLook, keyWord } from '../words'

const props = defineProps<{ key_: string }>()
const page = ref(1)
const perPage = 100
const idle = ref(false)
const got = useQuery({
  queryKey: computed(() => ['keys', 'one', props.key_, idle.value, page.value]),
  queryFn: () => told(client.GET('/api/keys/{key}', { params: { path: { key: props.key_ }, query: { idle: idle.value, page: page.value, per_page: perPage } } })),
  placeholderData: keepPreviousData,
})
const k = computed(() => got.data.value)

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = NonNullable<NonNullable<typeof k.value>['on']>[number]
</script>

<template>
  <p class="soft"><router-link :to="{ name: 'keys' }">Keys</router-link></p>
  <Trouble :error="got.error.value" />
  <template v-if="k">
    <div class="head">
      <h1>{{ count(k.hosts, 'host believes', 'hosts believe') }} {{ k.policy || k.user_ids[0] || 'this key' }}</h1>
      <Mark :look="keyLook[k.state]" :word="keyWord[k.state] ?? k.state" />
    </div>
    <dl class="card facts">
      <dt>Fingerprint</dt>
      <dd><span class="mono">{{ k.fingerprint }}</span> <Copy :text="k.fingerprint" what="the fingerprint" /></dd>
      <dt>Of</dt>
      <dd><div v-for="id in k.user_ids" :key="id">{{ id }}</div></dd>
      <template v-if="k.withdrawn_because"><dt>Withdrawn</dt><dd class="bad">{{ k.withdrawn_because }}</dd></template>
      <dt>Algorithm</dt>
      <dd>{{ k.algorithm }}<span v-if="k.weakness" class="warn">, weak: {{ k.weakness }}</span></dd>
      <dt>Life</dt>
      <dd>made {{ date(k.created) }}, {{ k.expires ? `ends ${date(k.expires)}` : 'never ends' }}</dd>
      <dt>Policy</dt>
      <dd v-if="!k.policy" class="warn">does not know it</dd>
      <dd v-else>{{ k.policy }}, for {{ k.for_repositories.length ? k.for_repositories.join(', ') : 'no repository' }}</dd>
      <dt>Believed for</dt>
      <dd :class="{ warn: k.wide }">{{ k.believed_for || '–' }}<span v-if="k.idle" class="soft">; {{ count(k.idle, 'more host has', 'more hosts have') }} it and nothing uses it</span></dd>
      <dt>Signs today</dt>
      <dd>{{ k.signs_places ? count(k.signs_places, 'place of packages', 'places of packages') : 'nothing that was seen' }}</dd>
      <template v-if="k.replacement"><dt>Replacement</dt><dd>{{ k.replacement }}</dd></template>
    </dl>
    <p v-if="k.unknown" class="warn"><b>? Not known of {{ count(k.unknown, 'host', 'hosts') }}</b> without a survey.</p>
    <el-switch v-if="k.idle" v-model="idle" aria-label="Also where nothing uses it" active-text="also where nothing uses it" @change="page = 1" />
    <div v-if="k.total" class="card">
      <el-table :data="k.on" row-key="host">
        <el-table-column label="Host" min-width="210"><template #default="{ row }: { row: Row }"><router-link :to="{ name: 'host', params: { name: row.host } }">{{ row.host }}</router-link></template></el-table-column>
        <el-table-column prop="os" label="System" width="170" />
        <el-table-column label="Believed for" width="180"><template #default="{ row }: { row: Row }"><span v-if="!row.used" class="soft">nothing: {{ row.because }}</span><span v-else-if="row.scope === 'any'" class="warn">every source</span><template v-else>named sources</template></template></el-table-column>
        <el-table-column label="Stands in" min-width="260"><template #default="{ row }: { row: Row }"><div v-for="w in row.stands_in" :key="w" class="mono">{{ w }}</div></template></el-table-column>
        <el-table-column label="Named by" min-width="260"><template #default="{ row }: { row: Row }"><div v-for="s in row.sources" :key="s" class="mono">{{ s }}</div></template></el-table-column>
      </el-table>
    </div>
    <el-pagination v-if="k.total > perPage" v-model:current-page="page" class="pages" layout="prev, pager, next, total" :total="k.total" :page-size="perPage" />
    <p class="soft">The same on the command line: <code>lantern key show {{ k.policy || k.fingerprint }}</code></p>
  </template>
</template>

<style scoped>
.head {
  display: flex;
  align-items: center;
  flex-wrap: wrap;
  gap: 4px 16px;
  margin-bottom: 14px;
}
h1,
code {
  overflow-wrap: anywhere;
}
</style>
