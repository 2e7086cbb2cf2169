<script setup lang="ts">
import { computed, ref } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { client, told } from '../api'
import Findings from '../parts/Findings.vue'
import NotKnown from '../parts/NotKnown.vue'
import Trouble from '../parts/Trouble.vue'
import { count } from '../words'

const severity = ref<string[]>([])
const sort = ref<'severity' | 'since' | '-since' | 'host'>('severity')
const page = ref(1)
const perPage = 50

const drift = useQuery({
  queryKey: computed(() => ['drift', severity.value.join(), sort.value, page.value]),
  queryFn: () =>
    told(
      client.GET('/api/drift', {
        params: { query: { severity: severity.value, sort: sort.value, page: page.value, per_page: perPage } },
        querySerializer: { array: { style: 'form', explode: false } },
      }),
    ),
  placeholderData: keepPreviousData,
})
</script>

<template>
  <div class="head">
    <h1 v-if="drift.data.value">
      <span v-if="drift.data.value.total === 0">No findings{{ severity.length ? ' of that kind' : '' }}</span>
      <template v-else>{{ count(drift.data.value.total, 'finding', 'findings') }} on {{ count(drift.data.value.hosts, 'host', 'hosts') }}</template>
    </h1>
    <span class="tools">
      <el-checkbox-group v-model="severity" size="small" @change="page = 1">
        <el-checkbox-button value="danger">!! danger</el-checkbox-button>
        <el-checkbox-button value="fault">! fault</el-checkbox-button>
        <el-checkbox-button value="note">– note</el-checkbox-button>
      </el-checkbox-group>
      <el-select v-model="sort" size="small" style="width: 160px" aria-label="Order">
        <el-option value="severity" label="worst first" />
        <el-option value="-since" label="newest first" />
        <el-option value="since" label="oldest first" />
        <el-option value="host" label="by host" />
      </el-select>
    </span>
  </div>
  <Trouble :error="drift.error.value" />
  <NotKnown v-if="drift.data.value" :standing="drift.data.value.standing" />
  <Findings v-if="drift.data.value?.findings.length" :findings="drift.data.value.findings" hosts />
  <el-pagination v-if="(drift.data.value?.total ?? 0) > perPage" v-model:current-page="page" class="pages" layout="prev, pager, next, total" :total="drift.data.value?.total" :page-size="perPage" />
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: center;
  margin-bottom: 16px;
}
.tools {
  display: flex;
  gap: 16px;
}
.pages {
  margin-top: 14px;
  justify-content: flex-end;
}
</style>
