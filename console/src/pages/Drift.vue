<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useAddress } from '../address'
import { client, querySerializer, told, type FindingGroup } from '../api'
import AskWhy from '../parts/AskWhy.vue'
import Findings from '../parts/Findings.vue'
import GroupPick from '../parts/GroupPick.vue'
import Groups from '../parts/Groups.vue'
import InWaves from '../parts/InWaves.vue'
import NotKnown from '../parts/NotKnown.vue'
import Trouble from '../parts/Trouble.vue'
import Views from '../parts/Views.vue'
import { useMayChange } from '../role'
import { count, short } from '../words'

// What is shown stands in the address.
const { text, page, q, go } = useAddress()
const list = (k: string) => text(k).split(',').filter(Boolean)
const severity = computed(() => list('severity'))
const classes = computed(() => list('class'))
const group = computed(() => list('to'))
const sort = computed(() => (text('sort') || 'severity') as 'severity' | 'since' | '-since')
const each = computed(() => text('each') === 'yes')
const picky = computed(() => severity.value.length + classes.value.length + group.value.length > 0 || text('q') !== '')
const perPage = 50
const query = computed(() => ({ severity: severity.value, class: classes.value, to: group.value, q: text('q'), sort: sort.value, page: page.value, per_page: perPage }))
const mayChange = useMayChange()

const drift = useQuery({
  queryKey: computed(() => ['drift', 'each', JSON.stringify(query.value)]),
  queryFn: () => told(client.GET('/api/drift', { params: { query: query.value }, querySerializer })),
  placeholderData: keepPreviousData,
  enabled: each,
})
const groups = useQuery({
  queryKey: computed(() => ['drift', 'groups', JSON.stringify(query.value)]),
  queryFn: () => told(client.GET('/api/drift/groups', { params: { query: query.value }, querySerializer })),
  placeholderData: keepPreviousData,
  enabled: computed(() => !each.value),
})
const shown = computed(() => (each.value ? drift.data.value : groups.data.value))
const total = computed(() => shown.value?.total ?? 0)
// A page that is past the last leads to the last.
watch(shown, (s) => { if (s && s.total && page.value > Math.ceil(s.total / perPage)) go({ page: String(Math.ceil(s.total / perPage)) }) }, { immediate: true })
const kinds = computed(() => [...new Set([...classes.value, ...(groups.data.value?.items ?? []).map((g) => g.class)])].sort())

// Waiving one finding on every host that has it.
const asking = ref(false)
const busy = ref(false)
const of = ref<FindingGroup | null>(null)
const error = ref<Error | null>(null)
function ask(g: FindingGroup) {
  of.value = g
  asking.value = true
}
function differenceOf(g: FindingGroup) {
  const { class: kind, severity, repository, field, file, line, message, want, have } = g
  return { class: kind, severity, repository, field, file, line, message, want, have }
}
const healing = ref(false)
const toHeal = ref<FindingGroup | null>(null)
function askHeal(g: FindingGroup) {
  toHeal.value = g
  healing.value = true
}
const sameHeal = computed(() => {
  const g = toHeal.value
  if (!g) return ''
  return g.hosts === 1 ? `lantern heal ${short(g.first)}` : `lantern heal ${g.names.slice(0, 3).map(short).join(' ')}${g.hosts > 3 ? ' …' : ''} --class ${g.class} --yes`
})
async function waive(why: string, until: Date) {
  if (!of.value) return
  busy.value = true
  error.value = null
  try {
    const finding = differenceOf(of.value)
    await told(client.POST('/api/waivers', { body: { finding, because: why, ends: until.toISOString() } }))
    await groups.refetch()
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = asking.value = false
  }
}
</script>

<template>
  <div class="head">
    <h1 v-if="shown">
      <span v-if="total === 0">No findings{{ picky ? ' of that kind' : '' }}</span>
      <template v-else-if="each">{{ count(total, 'finding', 'findings') }} on {{ count(shown.hosts, 'host', 'hosts') }}</template>
      <template v-else>{{ count(total, 'different finding', 'different findings') }} on {{ count(shown.hosts, 'host', 'hosts') }}</template>
    </h1>
    <span class="tools">
      <router-link v-if="total" :to="{ name: 'report' }">Report to print</router-link>
      <el-input v-model="q" size="small" clearable placeholder="Text or file" aria-label="Part of the message, file or repository" style="width: 160px" />
      <GroupPick :model-value="group" size="small" style="width: 125px" @change="(v) => go({ to: v.join(',') })" />
      <el-select :model-value="classes" size="small" multiple collapse-tags clearable placeholder="All classes" aria-label="Classes of findings" style="width: 140px" @change="(v: string[]) => go({ class: v.join(',') })"><el-option v-for="k in kinds" :key="k" :value="k" :label="k" /></el-select>
      <el-switch :model-value="each" aria-label="Host by host" size="small" inactive-text="each once" active-text="host by host" @change="(v: unknown) => go({ each: v ? 'yes' : undefined })" />
      <el-checkbox-group :model-value="severity" size="small" @change="(v: unknown) => go({ severity: (v as string[]).join(',') })">
        <el-checkbox-button value="danger">!! danger</el-checkbox-button>
        <el-checkbox-button value="fault">! fault</el-checkbox-button>
        <el-checkbox-button value="note">– note</el-checkbox-button>
      </el-checkbox-group>
      <el-select :model-value="sort" size="small" style="width: 120px" aria-label="Order" @change="(v: string) => go({ sort: v })">
        <el-option value="severity" label="worst first" />
        <el-option value="-since" label="newest first" />
        <el-option value="since" label="oldest first" />
      </el-select>
      <Views size="small" />
    </span>
  </div>
  <Trouble :error="drift.error.value ?? groups.error.value ?? error" />
  <NotKnown v-if="shown" :standing="shown.standing" />
  <p v-if="shown?.unknown" class="warn">? Of {{ count(shown.unknown, 'host', 'hosts') }} it is not known whether they are meant: they have sent no survey.</p>
  <Findings v-if="each && drift.data.value?.items?.length" :findings="drift.data.value.items" hosts />
  <Groups v-if="!each && groups.data.value?.items?.length" :groups="groups.data.value.items" :may-waive="mayChange" @waive="ask" @heal="askHeal" />
  <el-pagination v-if="total > perPage" :current-page="page" class="pages" layout="prev, pager, next, total" :total="total" :page-size="perPage" @current-change="(n: number) => go({ page: String(n) })" />
  <InWaves v-model="healing" kind="heal" title="Heal this finding wherever it is" :order="toHeal ? { finding: differenceOf(toHeal) } : {}" :same="sameHeal" />
  <AskWhy
    v-model="asking"
    title="Waive this finding"
    :text="of ? `${of.message} — on ${count(of.hosts, 'host', 'hosts')}. It is a finding again when it changes, or when the day has passed.` : ''"
    verb="Waive it"
    day
    :busy="busy"
    @done="waive"
  />
</template>
