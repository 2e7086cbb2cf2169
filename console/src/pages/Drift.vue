<script setup lang="ts">
import { computed, watch } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useAddress } from '../address'
import { client, querySerializer, told } from '../api'
import Asked from '../parts/Asked.vue'
import Differences from '../parts/Differences.vue'
import Findings from '../parts/Findings.vue'
import GroupPick from '../parts/GroupPick.vue'
import NotKnown from '../parts/NotKnown.vue'
import Views from '../parts/Views.vue'
import { count } from '../words'

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
  <Asked :of="[drift, groups]" />
  <NotKnown v-if="shown" :standing="shown.standing" />
  <p v-if="shown?.unknown" class="warn">? Of {{ count(shown.unknown, 'host', 'hosts') }} it is not known whether they are meant: they have sent no survey.</p>
  <Findings v-if="each && drift.data.value?.items?.length" :findings="drift.data.value.items" hosts />
  <Differences v-if="!each" :groups="groups.data.value?.items ?? []" @waived="groups.refetch()" />
  <el-pagination v-if="total > perPage" :current-page="page" class="pages" layout="prev, pager, next, total" :total="total" :page-size="perPage" @current-change="(n: number) => go({ page: String(n) })" />
</template>
