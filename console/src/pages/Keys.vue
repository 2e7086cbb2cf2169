<script setup lang="ts">
// Which signing keys the fleet believes: the worst first, and how long each still lives.
import { computed } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useAddress } from '../address'
import { client, told, type FleetKey } from '../api'
import { useNow } from '../now'
import Asked from '../parts/Asked.vue'
import Mark from '../parts/Mark.vue'
import Moment from '../parts/Moment.vue'
import Same from '../parts/Same.vue'
import Silent from '../parts/Silent.vue'
import Views from '../parts/Views.vue'
import { count, date, keyLook, keyWord, number } from '../words'

const now = useNow()
const { text, picked, page, sort, q, go, toggle } = useAddress()
const perPage = 50

const keys = useQuery({
  queryKey: computed(() => ['keys', text('q'), text('state'), sort.value, page.value]),
  queryFn: () =>
    told(
      client.GET('/api/keys', {
        params: { query: { q: text('q'), state: picked.value, sort: sort.value as 'state', page: page.value, per_page: perPage } },
        querySerializer: { array: { style: 'form', explode: false } },
      }),
    ),
  placeholderData: keepPreviousData,
})
const states = ['revoked', 'withdrawn', 'ended', 'ends', 'weak', 'unknown', 'good']
// Of all keys that the text picks, whatever page and states are shown.
const of = (state: string) => keys.data.value?.states[state] ?? 0
const unknown = computed(() => of('unknown'))
const bad = computed(() => ['revoked', 'withdrawn', 'ended', 'ends', 'weak'].reduce((n, s) => n + of(s), 0))

// A life line: two years back, six ahead.
const year = 365.25 * 86400_000
const back = 2
const span = 8
function at(time: number): number {
  return Math.min(100, Math.max(0, ((time - now.value) / year + back) * (100 / span)))
}
function life(k: FleetKey) {
  const from = at(Date.parse(k.created))
  const to = k.expires ? at(Date.parse(k.expires)) : 100
  return { left: `${from}%`, width: `${Math.max(1, to - from)}%` }
}
const today = `${back * (100 / span)}%`
const years = computed(() => {
  const first = new Date(now.value - back * year).getFullYear() + 1
  return Array.from({ length: span }, (_, i) => ({ name: `’${String(first + i).slice(2)}`, left: `${at(Date.UTC(first + i, 0, 1))}%` })).filter((y) => y.left !== '100%')
})

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = NonNullable<typeof keys.data.value>['items'][number]
</script>

<template>
  <div class="head">
    <h1 v-if="keys.data.value">
      <span v-if="bad" class="warn">{{ count(bad, 'key needs', 'keys need') }} a look<template v-if="unknown">, {{ unknown }} not in the policy</template></span>
      <span v-else-if="unknown" class="warn">{{ count(unknown, 'key is', 'keys are') }} believed and not in the policy</span>
      <template v-else>{{ count(keys.data.value.total, 'signing key', 'signing keys') }}</template>
    </h1>
    <span class="tools">
      <el-input v-model="q" class="search" placeholder="Name, user id or fingerprint" clearable aria-label="Filter keys" />
      <Views />
      <el-select :model-value="sort" style="width: 150px" aria-label="Order" @change="(v: string) => go({ sort: v })">
        <el-option value="state" label="worst first" />
        <el-option value="hosts" label="most hosts first" />
        <el-option value="ends" label="first to end first" />
        <el-option value="name" label="by name" />
      </el-select>
    </span>
  </div>
  <Asked :of="[keys]" />
  <template v-if="keys.data.value">
    <p class="soft">
      On {{ count(keys.data.value.hosts, 'host', 'hosts') }}. <router-link :to="{ name: 'repositories' }">Repositories</router-link> tells which key signs what today.
      <template v-if="!keys.data.value.revision"> Nothing is published yet, so the policy knows none of them.</template>
      <b v-if="keys.data.value.unknown" class="warn"> ? {{ count(keys.data.value.unknown, 'host has', 'hosts have') }} sent no survey yet.</b>
      <Silent :hosts="keys.data.value.silent" />
    </p>
    <div class="chips" role="group" aria-label="Filter by state">
      <button v-for="s in states" :key="s" class="card chip" :class="{ on: picked.includes(s) }" :aria-pressed="picked.includes(s)" @click="toggle(s)"><b>{{ of(s) }}</b> <Mark :look="keyLook[s]" :word="keyWord[s] ?? s" /></button>
    </div>
    <div class="card">
      <el-table :data="keys.data.value.items" row-key="fingerprint" empty-text="No key matches the filter">
        <el-table-column label="State" width="205">
          <template #default="{ row }: { row: Row }"><Mark v-if="row.hosts || row.state !== 'good'" :look="keyLook[row.state]" :word="keyWord[row.state] ?? row.state" /><Mark v-else :look="undefined" word="on no host" /></template>
        </el-table-column>
        <el-table-column label="Key" min-width="340">
          <template #default="{ row }: { row: Row }">
            <router-link :to="{ name: 'key', params: { key: row.fingerprint } }">{{ row.policy || row.user_ids[0] || row.fingerprint }}</router-link>
            <div v-if="row.policy && row.user_ids.length" class="soft small">{{ row.user_ids[0] }}</div>
            <div class="mono soft small">{{ row.fingerprint }}</div>
          </template>
        </el-table-column>
        <el-table-column label="Hosts" width="72" align="right"><template #default="{ row }: { row: Row }"><b>{{ number(row.hosts) }}</b></template></el-table-column>
        <el-table-column label="Believed for" width="150"><template #default="{ row }: { row: Row }"><span :class="{ warn: row.wide }">{{ row.believed_for || '–' }}</span></template></el-table-column>
        <el-table-column label="Until" width="115"><template #default="{ row }: { row: Row }"><Moment v-if="row.expires" :at="row.expires" day /><template v-else>never</template></template></el-table-column>
        <el-table-column min-width="250">
          <template #header><span class="axis"><span v-for="y in years" :key="y.name" class="year" :style="{ left: y.left }">{{ y.name }}</span></span></template>
          <template #default="{ row }: { row: Row }">
            <div class="axis line" role="img" :aria-label="`from ${date(row.created)} to ${row.expires ? date(row.expires) : 'no end'}`">
              <span class="life" :class="keyLook[row.state]?.tone" :style="life(row as FleetKey)"></span><span class="today" :style="{ left: today }"></span>
            </div>
            <div v-if="row.signs_places" class="soft small">signs {{ count(row.signs_places, 'place', 'places') }} today</div>
            <div v-if="row.replacement" class="soft small">{{ row.replacement }}</div>
            <div v-if="row.withdrawn_because" class="bad small">the policy takes it away: {{ row.withdrawn_because }}</div>
            <div v-if="row.weakness" class="warn small">weak: {{ row.weakness }}</div>
          </template>
        </el-table-column>
      </el-table>
    </div>
    <el-pagination v-if="keys.data.value.total > perPage" :current-page="page" class="pages" layout="prev, pager, next, total" :total="keys.data.value.total" :page-size="perPage" @current-change="(n: number) => go({ page: String(n) })" />
    <Same command="lantern key list" />
  </template>
</template>

<style scoped>
.tools {
  display: flex;
  gap: 12px;
}
.search {
  width: 280px;
}
.axis {
  display: block;
  position: relative;
  height: 20px;
}
.year {
  position: absolute;
  font-size: 12px;
  font-weight: 400;
  border-left: 1px solid var(--line);
  padding-left: 3px;
}
.life {
  position: absolute;
  top: 7px;
  height: 6px;
  border-radius: 3px;
  background: var(--soft);
}
.life.good {
  background: var(--good);
}
.life.warn {
  background: var(--warn);
}
.life.bad {
  background: var(--bad);
}
.today {
  position: absolute;
  top: 0;
  bottom: 0;
  border-left: 2px solid var(--amber);
}
</style>
