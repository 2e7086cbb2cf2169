<script setup lang="ts">
import { computed, ref } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { client, told, type FindingGroup } from '../api'
import AskWhy from '../parts/AskWhy.vue'
import Findings from '../parts/Findings.vue'
import Groups from '../parts/Groups.vue'
import NotKnown from '../parts/NotKnown.vue'
import Trouble from '../parts/Trouble.vue'
import { useMayChange } from '../role'
import { count } from '../words'

const severity = ref<string[]>([])
const sort = ref<'severity' | 'since' | '-since'>('severity')
const each = ref(false)
const page = ref(1)
const perPage = 50
const querySerializer = { array: { style: 'form', explode: false } } as const
const query = computed(() => ({ severity: severity.value, sort: sort.value, page: page.value, per_page: perPage }))
const mayChange = useMayChange()

const drift = useQuery({
  queryKey: computed(() => ['drift', 'each', severity.value.join(), sort.value, page.value]),
  queryFn: () => told(client.GET('/api/drift', { params: { query: query.value }, querySerializer })),
  placeholderData: keepPreviousData,
  enabled: each,
})
const groups = useQuery({
  queryKey: computed(() => ['drift', 'groups', severity.value.join(), sort.value, page.value]),
  queryFn: () => told(client.GET('/api/drift/groups', { params: { query: query.value }, querySerializer })),
  placeholderData: keepPreviousData,
  enabled: computed(() => !each.value),
})
const shown = computed(() => (each.value ? drift.data.value : groups.data.value))
const total = computed(() => shown.value?.total ?? 0)

// Waiving one finding on every host that has it.
const asking = ref(false)
const busy = ref(false)
const of = ref<FindingGroup | null>(null)
const error = ref<Error | null>(null)
function ask(g: FindingGroup) {
  of.value = g
  asking.value = true
}
async function waive(why: string, until: Date) {
  if (!of.value) return
  const { class: kind, severity, repository, field, file, line, message, want, have } = of.value
  busy.value = true
  error.value = null
  try {
    const finding = { class: kind, severity, repository, field, file, line, message, want, have }
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
      <span v-if="total === 0">No findings{{ severity.length ? ' of that kind' : '' }}</span>
      <template v-else-if="each">{{ count(total, 'finding', 'findings') }} on {{ count(shown.hosts, 'host', 'hosts') }}</template>
      <template v-else>{{ count(total, 'different finding', 'different findings') }} on {{ count(shown.hosts, 'host', 'hosts') }}</template>
    </h1>
    <span class="tools">
      <router-link v-if="total" :to="{ name: 'report' }">Report to print</router-link>
      <el-switch v-model="each" size="small" inactive-text="each once" active-text="host by host" @change="page = 1" />
      <el-checkbox-group v-model="severity" size="small" @change="page = 1">
        <el-checkbox-button value="danger">!! danger</el-checkbox-button>
        <el-checkbox-button value="fault">! fault</el-checkbox-button>
        <el-checkbox-button value="note">– note</el-checkbox-button>
      </el-checkbox-group>
      <el-select v-model="sort" size="small" style="width: 140px" aria-label="Order">
        <el-option value="severity" label="worst first" />
        <el-option value="-since" label="newest first" />
        <el-option value="since" label="oldest first" />
      </el-select>
    </span>
  </div>
  <Trouble :error="drift.error.value ?? groups.error.value ?? error" />
  <NotKnown v-if="shown" :standing="shown.standing" />
  <Findings v-if="each && drift.data.value?.items?.length" :findings="drift.data.value.items" hosts />
  <Groups v-if="!each && groups.data.value?.items?.length" :groups="groups.data.value.items" :may-waive="mayChange" @waive="ask" />
  <el-pagination v-if="total > perPage" v-model:current-page="page" class="pages" layout="prev, pager, next, total" :total="total" :page-size="perPage" />
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

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: center;
  flex-wrap: wrap;
  gap: 8px 16px;
  margin-bottom: 16px;
}
.tools {
  display: flex;
  align-items: center;
  gap: 16px;
}
</style>
