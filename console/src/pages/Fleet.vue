<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { computed, defineAsyncComponent, ref, shallowRef } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useRouter } from 'vue-router'
import { useAddress } from '../address'
import { client, querySerializer, told, type Host } from '../api'
import Asked from '../parts/Asked.vue'
import Empty from '../parts/Empty.vue'
import GroupPick from '../parts/GroupPick.vue'
import HostCell from '../parts/HostCell.vue'
import InWaves from '../parts/InWaves.vue'
import LabelBox from '../parts/LabelBox.vue'
import Mark from '../parts/Mark.vue'
import NotKnown from '../parts/NotKnown.vue'
import RetireBox from '../parts/RetireBox.vue'
import Trouble from '../parts/Trouble.vue'
import Views from '../parts/Views.vue'
import { useMayChange } from '../role'
import { count, number, short, stateLook, states } from '../words'

const HostRows = defineAsyncComponent(() => import('../parts/HostRows.vue'))
const router = useRouter()

const { text, picked, page, sort, q, go, toggle, field } = useAddress()
const where = field('where')
const has = field('has')
const perPage = 50
const group = computed(() => text('to').split(',').filter(Boolean))

// What is asked for, as it stands in the address.
const asked = computed(() => ({ q: text('q'), state: picked.value, to: group.value, where: text('where'), has: text('has'), like: text('like') }))

const ask = (n: number) => {
  const query = { ...asked.value, sort: sort.value as 'name', page: n, per_page: perPage }
  return {
    queryKey: ['hosts', asked.value, sort.value, n],
    queryFn: () => told(client.GET('/api/hosts', { params: { query }, querySerializer })),
  }
}
const hosts = useQuery(computed(() => ({ ...ask(page.value), placeholderData: keepPreviousData })))
// What does not stand on one page is a list that one scrolls through; where its columns have no room, pages.
const wide = useMediaQuery('(min-width: 1000px)')
const long = computed(() => wide.value && (hosts.data.value?.total ?? 0) > perPage)

// Hosts that are picked, on this page and on others, to do something with all of them.
const mayChange = useMayChange()
const chosen = shallowRef(new Set<string>())
const names = computed(() => [...chosen.value].sort())
const here = computed(() => (hosts.data.value?.items ?? []).map((h) => h.name))
const chosenHere = computed(() => here.value.filter((n) => chosen.value.has(n)).length)
function choose(which: string[], on: boolean) {
  const next = new Set(chosen.value)
  for (const n of which) on ? next.add(n) : next.delete(n)
  chosen.value = next
}
const healing = ref(false)
const carrying = ref(false)
const labelling = ref(false)
const retiring = ref(false)
const gathering = ref(false)
const wrong = ref<Error | null>(null)
const some = computed(() => names.value.slice(0, 3).map(short).join(' ') + (names.value.length > 3 ? ' …' : ''))
async function chooseAll() {
  gathering.value = true
  wrong.value = null
  try {
    choose((await told(client.GET('/api/host-names', { params: { query: asked.value }, querySerializer }))).items, true)
  } catch (e) {
    wrong.value = e as Error
  } finally {
    gathering.value = false
  }
}
function chooseNone() {
  chosen.value = new Set()
}

const pressing = computed(() => {
  const s = hosts.data.value?.states
  if (!s) return null
  const n = (s.failed ?? 0) + (s.drifted ?? 0) + (s.silent ?? 0)
  return n
})

const known = computed(() => {
  const s = hosts.data.value?.standing
  return s !== undefined && s.failed + s.silent + s.changing + s.no_revision + s.no_survey + s.invited + s.unfetched + s.older + s.unread === 0
})

function onSort(e: { prop: string | null; order: string | null }) {
  go({ sort: e.prop && e.order ? (e.order === 'descending' ? '-' : '') + e.prop : undefined })
}

function open(h: Host) {
  void router.push({ name: 'host', params: { name: h.name } })
}

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = NonNullable<typeof hosts.data.value>['items'][number]
</script>

<template>
  <div class="head">
    <h1 v-if="pressing !== null">
      <template v-if="hosts.data.value?.all === 0">No host has joined yet</template>
      <template v-else-if="pressing === 0 && known"><span class="good">{{ count(hosts.data.value?.all ?? 0, 'host is', 'hosts are') }} as the policy says</span></template>
      <template v-else-if="pressing === 0">{{ count(hosts.data.value?.all ?? 0, 'host', 'hosts') }}, <span class="warn">not all of them known</span></template>
      <template v-else><span class="warn">{{ count(pressing, 'host needs', 'hosts need') }} a look</span> of {{ number(hosts.data.value?.all ?? 0) }}</template>
    </h1>
    <span class="tools">
      <GroupPick :model-value="group" class="pick" @change="(v) => go({ to: v.join(',') })" />
      <el-input v-model="where" class="pick" placeholder="os.major >= 12" clearable aria-label="Condition that hosts meet" title="A condition as in policies: os.major >= 12" @change="(v: string) => go({ where: v })" />
      <el-input v-model="has" class="pick" placeholder="has a repository" clearable aria-label="Repository that hosts get packages from" title="A repository of the policy, such as saltmarsh" @change="(v: string) => go({ has: v })" />
      <el-input v-model="q" class="search" placeholder="Name, system, or label as key=value" clearable aria-label="Filter hosts" />
      <Views />
    </span>
  </div>
  <Asked :of="[hosts]" />
  <NotKnown v-if="hosts.data.value?.all" :standing="hosts.data.value.standing" />
  <p v-if="hosts.data.value?.unknown" class="warn">? Of {{ count(hosts.data.value.unknown, 'host', 'hosts') }} it is not known whether they are meant: they have sent no survey.</p>
  <p v-if="text('like')" class="soft">Only those that are configured exactly as {{ short(text('like')) }}. <el-button text size="small" @click="go({ like: undefined })">Show all</el-button></p>
  <div v-if="hosts.data.value" class="chips" role="group" aria-label="Filter by state">
    <button v-for="s in states" :key="s" class="card chip" :class="{ on: picked.includes(s), none: !hosts.data.value.states[s] }" :aria-pressed="picked.includes(s)" @click="toggle(s)">
      <b>{{ number(hosts.data.value.states[s] ?? 0) }}</b><Mark :look="stateLook[s]" :word="s" />
    </button>
  </div>
  <template v-if="hosts.data.value">
    <Empty v-if="hosts.data.value.all === 0">Make a token for one: <code>lantern host invite NAME</code>, or on the page of <router-link to="/people">people and tokens</router-link>.</Empty>
    <div v-if="mayChange && chosen.size" class="card bulk" role="group" aria-label="What is done with the chosen hosts">
      <b aria-live="polite">{{ count(chosen.size, 'host', 'hosts') }} chosen</b>
      <el-button v-if="chosen.size < hosts.data.value.total" text size="small" :loading="gathering" @click="chooseAll">Choose all {{ number(hosts.data.value.total) }} that match</el-button>
      <el-button text size="small" @click="chooseNone">Choose none</el-button>
      <span class="acts">
        <el-button size="small" type="primary" @click="healing = true">Heal</el-button>
        <el-button size="small" @click="carrying = true">Begin a rollout</el-button>
        <el-button size="small" @click="labelling = true">Label</el-button>
        <el-button size="small" @click="retiring = true">Retire</el-button>
      </span>
    </div>
    <Trouble :error="wrong" />
    <HostRows v-if="long" :total="hosts.data.value.total" :page="page" :per-page="perPage" :sort="sort" :asked="asked" :ask="ask" :may-change="mayChange" :chosen="chosen" @at="(n: number) => go({ page: n > 1 ? String(n) : undefined })" @sort="(by: string) => go({ sort: by })" @choose="(name: string, on: boolean) => choose([name], on)" @all="(on: boolean) => (on ? chooseAll() : chooseNone())" @open="open" />
    <div v-else-if="hosts.data.value.all" class="card">
      <el-table :data="hosts.data.value.items" row-key="name" :default-sort="{ prop: sort.replace(/^-/, ''), order: sort.startsWith('-') ? 'descending' : 'ascending' }" empty-text="No host matches the filter" @sort-change="onSort" @row-click="open">
        <el-table-column v-if="mayChange" width="44">
          <template #header><el-checkbox :model-value="here.length > 0 && chosenHere === here.length" :indeterminate="chosenHere > 0 && chosenHere < here.length" aria-label="Choose all hosts of this page" @change="(on: unknown) => choose(here, on === true)" /></template>
          <template #default="{ row }: { row: Row }"><span @click.stop><el-checkbox :model-value="chosen.has(row.name)" :aria-label="`Choose ${short(row.name)}`" @change="(on: unknown) => choose([row.name], on === true)" /></span></template>
        </el-table-column>
        <el-table-column prop="name" label="Host" sortable="custom" width="210">
          <template #default="{ row }: { row: Row }"><HostCell :host="row" part="name" /></template>
        </el-table-column>
        <el-table-column prop="state" label="State" sortable="custom" width="130">
          <template #default="{ row }: { row: Row }"><HostCell :host="row" part="state" /></template>
        </el-table-column>
        <el-table-column prop="detail" label="Why" min-width="420" show-overflow-tooltip>
          <template #default="{ row }: { row: Row }"><HostCell :host="row" part="detail" /></template>
        </el-table-column>
        <el-table-column prop="os" label="System" sortable="custom" width="165" />
        <el-table-column prop="revision" label="Revision" sortable="custom" width="118" align="right">
          <template #default="{ row }: { row: Row }"><HostCell :host="row" part="revision" /></template>
        </el-table-column>
        <el-table-column prop="last_seen" label="Last seen" sortable="custom" width="126">
          <template #default="{ row }: { row: Row }"><HostCell :host="row" part="last_seen" /></template>
        </el-table-column>
      </el-table>
    </div>
    <el-pagination v-if="!long && hosts.data.value.total > perPage" class="pages" layout="prev, pager, next, total" :total="hosts.data.value.total" :page-size="perPage" :current-page="page" @current-change="(n: number) => go({ page: String(n) })" />
  </template>
  <InWaves v-model="healing" kind="heal" :title="`Heal ${count(names.length, 'host', 'hosts')}`" :order="{ to: names }" :same="`lantern heal ${some}${names.length > 1 ? ' --yes' : ''}`" />
  <InWaves v-model="carrying" kind="carry" :title="`Carry the newest revision to ${count(names.length, 'host', 'hosts')}`" :order="{ to: names }" :same="`lantern rollout begin --to ${names.slice(0, 3).map(short).join(',')}${names.length > 3 ? ',…' : ''}`" />
  <LabelBox v-model="labelling" :hosts="names" @done="chooseNone" />
  <RetireBox v-model="retiring" :hosts="names" @done="chooseNone" />
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 20px;
}
.tools {
  display: flex;
  flex-wrap: wrap;
  justify-content: flex-end;
  gap: 8px;
}
.search {
  width: 330px;
}
.pick {
  width: 180px;
}
@media (max-width: 700px) {
  .head {
    flex-wrap: wrap;
  }
  .search,
  .pick {
    width: 100%;
  }
}
.bulk {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px;
  padding: 8px 14px;
  margin-bottom: 10px;
}
.acts {
  margin-left: auto;
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.chips {
  display: flex;
  gap: 10px;
  margin: 16px 0;
  flex-wrap: wrap;
}
.chip {
  font: inherit;
  color: inherit;
  padding: 8px 16px 8px 12px;
  cursor: pointer;
  display: flex;
  align-items: baseline;
  gap: 10px;
}
.chip b {
  font-size: 20px;
  min-width: 1ch;
}
.chip.none b {
  color: var(--soft);
  font-weight: 400;
}
:deep(.el-table__row) {
  cursor: pointer;
}
</style>
