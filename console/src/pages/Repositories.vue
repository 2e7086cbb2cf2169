<script setup lang="ts">
// Where the fleet gets packages from, and what the service itself saw there: what is refused first.
import { computed, ref } from 'vue'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { useAddress } from '../address'
import { client, told } from '../api'
import { useNow } from '../now'
import Asked from '../parts/Asked.vue'
import Mark from '../parts/Mark.vue'
import Moment from '../parts/Moment.vue'
import Silent from '../parts/Silent.vue'
import Views from '../parts/Views.vue'
import { useMayChange } from '../role'
import { ago, count, exact, number, placeLook, placeWord, seen, sentence, span } from '../words'

const now = useNow()
const mayChange = useMayChange()
const queries = useQueryClient()
const { text, picked, page, sort, q, go, toggle } = useAddress()
const perPage = 50
const name = ref('')

const got = useQuery({
  queryKey: computed(() => ['repositories', text('q'), text('state'), sort.value, page.value]),
  queryFn: () =>
    told(
      client.GET('/api/repositories', {
        params: { query: { q: text('q'), state: picked.value, sort: sort.value as 'state', page: page.value, per_page: perPage } },
        querySerializer: { array: { style: 'form', explode: false } },
      }),
    ),
  placeholderData: keepPreviousData,
})
const states = ['trouble', 'unknown', 'unsigned', 'good']
const of = (state: string) => got.data.value?.states[state] ?? 0
const all = computed(() => states.reduce((n, s) => n + of(s), 0))

// What is to be done is said once for each cause.
const causes = computed(() => {
  const by = new Map<string, { says: string; remedy: string; n: number }>()
  for (const r of got.data.value?.items ?? []) {
    const l = r.look
    if (l.state !== 'trouble' || !l.says) continue
    const c = by.get(l.says) ?? { says: l.says, remedy: l.remedy ?? '', n: 0 }
    c.n++
    by.set(l.says, c)
  }
  return [...by.values()].sort((a, b) => b.n - a.n)
})

const shown = computed(() => causes.value.reduce((n, c) => n + c.n, 0)) // of one page

const probe = useMutation({
  mutationFn: () => told(client.POST('/api/repositories/probe', { body: { which: [] } })),
  onSettled: () => queries.invalidateQueries({ queryKey: ['repositories'] }),
})

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = NonNullable<typeof got.data.value>['items'][number]
</script>

<template>
  <div class="head">
    <h1 v-if="got.data.value">
      <span v-if="of('trouble')" class="bad">{{ count(of('trouble'), 'place of packages is refused or not reached', 'places of packages are refused or not reached') }}</span>
      <template v-else-if="!all">No place of packages is known yet</template>
      <span v-else-if="of('unknown') === all" class="warn">Nothing was looked at yet</span>
      <template v-else>{{ count(of('good'), 'place answers as it should', 'places answer as they should') }}<span v-if="of('unsigned')" class="soft">, {{ of('unsigned') }} signed by nothing that is pinned</span><span v-if="of('unknown')" class="warn">, {{ of('unknown') }} not known</span></template>
    </h1>
    <span class="tools">
      <el-input v-model="q" class="search" placeholder="Address, suite or repository" clearable aria-label="Filter places" />
      <el-select :model-value="sort" style="width: 170px" aria-label="Order" @change="(v: string) => go({ sort: v })">
        <el-option value="state" label="worst first" />
        <el-option value="hosts" label="most hosts first" />
        <el-option value="address" label="by address" />
        <el-option value="checked" label="longest not looked at" />
      </el-select>
      <el-button v-if="mayChange" :loading="probe.isPending.value" @click="probe.mutate()">Look at all now</el-button>
      <Views />
    </span>
  </div>
  <Asked :of="[got, probe]" />
  <template v-if="got.data.value">
    <p class="soft">
      <template v-if="got.data.value.every">The service looks at each every {{ got.data.value.every < 120 ? 'minute' : span(got.data.value.every) }}, as the hosts would.</template>
      <template v-else>The service looks only when it is asked to.</template>
      <template v-if="got.data.value.pending"> {{ count(got.data.value.pending, 'is', 'are') }} being looked at.</template>
      <b v-if="got.data.value.unknown" class="warn"> ? {{ count(got.data.value.unknown, 'host has', 'hosts have') }} sent no survey yet.</b>
      <Silent :hosts="got.data.value.silent" />
    </p>
    <ul v-if="causes.length" class="card causes">
      <li v-for="c in causes" :key="c.says"><b class="bad">{{ count(c.n, 'place', 'places') }}{{ of('trouble') > shown ? ' of those shown' : '' }}: {{ c.says }}</b><br />{{ sentence(c.remedy) }}</li>
    </ul>
    <form class="ask" @submit.prevent="$router.push({ name: 'whence', query: { package: name } })">
      <el-input v-model="name" class="search" placeholder="Name of a package" aria-label="Name of a package" />
      <el-button native-type="submit" :disabled="!name">Where would it come from?</el-button>
    </form>
    <div class="chips" role="group" aria-label="Filter by state">
      <button v-for="s in states" :key="s" class="card chip" :class="{ on: picked.includes(s) }" :aria-pressed="picked.includes(s)" @click="toggle(s)"><b>{{ of(s) }}</b> <Mark :look="placeLook[s]" :word="placeWord[s] ?? s" /></button>
    </div>
    <div class="card">
      <el-table :data="got.data.value.items" row-key="key" empty-text="No place matches the filter">
        <el-table-column label="State" width="205">
          <template #default="{ row }: { row: Row }">
            <Mark :look="placeLook[row.look.state]" :word="seen(row.look)" />
            <div v-if="row.look.since && row.look.state === 'trouble'" class="soft small">{{ ago(row.look.since, now) }}</div>
          </template>
        </el-table-column>
        <el-table-column label="Repository" min-width="420">
          <template #default="{ row }: { row: Row }">
            <router-link :to="{ name: 'repository', params: { key: row.key } }">{{ row.names.join(', ') || 'not in the policy' }}</router-link>
            <span class="soft"> for {{ row.family }}{{ row.architectures?.length ? `, ${row.architectures.join(', ')}` : '' }}</span>
            <div class="mono soft small">{{ row.address }} {{ row.suite }} {{ row.components?.join(' ') }}</div>
            <div v-if="row.look.says" class="bad small">{{ row.look.says }}</div>
            <div v-else-if="row.look.state === 'unknown'" class="warn small">{{ row.look.why }}</div>
            <div v-for="w in (row.witnesses ?? []).filter((x: { ok: boolean }) => !x.ok)" :key="w.package" class="warn small">its witness {{ w.package }} {{ w.offered ? `is at ${w.offered}, wanted is ${w.at_least}` : 'is not offered' }}</div>
          </template>
        </el-table-column>
        <el-table-column label="Hosts" width="72" align="right"><template #default="{ row }: { row: Row }"><b>{{ number(row.hosts) }}</b></template></el-table-column>
        <el-table-column label="Packages" width="120" align="right">
          <template #default="{ row }: { row: Row }">
            {{ row.look.found ? number(row.look.package_count) : '?' }}
            <div v-if="row.look.changes" class="soft small" :title="exact(row.look.changed)">+{{ row.look.changes.added }} −{{ row.look.changes.removed }} ~{{ row.look.changes.updated }}</div>
          </template>
        </el-table-column>
        <el-table-column label="Good until" width="125"><template #default="{ row }: { row: Row }"><Moment :at="row.look.found?.valid_until" day /></template></el-table-column>
        <el-table-column label="Looked at" width="120"><template #default="{ row }: { row: Row }"><span :title="exact(row.look.checked)">{{ ago(row.look.checked, now) }}</span></template></el-table-column>
      </el-table>
    </div>
    <el-pagination v-if="got.data.value.total > perPage" :current-page="page" class="pages" layout="prev, pager, next, total" :total="got.data.value.total" :page-size="perPage" @current-change="(n: number) => go({ page: String(n) })" />
    <p class="soft">The same on the command line: <code>lantern repository list</code>, <code>lantern repository probe</code></p>
  </template>
</template>

<style scoped>
.tools,
.ask {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
}
.search {
  width: 260px;
}
.causes {
  list-style: none;
  margin: 0 0 14px;
  padding: 10px 14px;
}
</style>
