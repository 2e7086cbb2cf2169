<script setup lang="ts">
// The year ahead of each account: for how many hosts there is no seat if nothing is
// renewed, and what a further year of what ends costs.
import { computed } from 'vue'
import type { Outlook } from '../api'
import { csv, keep } from '../csv'
import { count, date, money, progressLook, yearly } from '../words'
import Mark from './Mark.vue'
import Moment from './Moment.vue'

const props = defineProps<{ forecast: Outlook['forecast']; unknown: number }>()

const rows = computed(() =>
  props.forecast.flatMap((f) => f.steps.map((s, i) => ({ ...s, key: `${f.account} ${s.at}`, account: f.account, now: i === 0, ends: f.renewals.filter((r) => r.ends_by === i) }))),
)
type Row = (typeof rows.value)[number]

function grows(f: Outlook['forecast'][number]): string {
  if (!f.since) return 'how its seats grow is not known: none was counted yet'
  if (f.seats_a_year === null) return `how its seats grow is not known yet: they are counted since ${date(f.since)}, and 120 days are needed`
  if (f.seats_a_year === 0) return `no more seats than on ${date(f.since)}`
  return `${count(f.seats_a_year, 'seat', 'seats')} more a year, by the pace since ${date(f.since)}`
}

function download() {
  const all = props.forecast.flatMap((f) =>
    f.renewals.map((r) => ({ ...r, account: f.account, end: r.end.slice(0, 10), cost: r.not_known ? '' : money(r.hundredths, '') })),
  )
  keep('renewals.csv', csv(['account', 'contract', 'title', 'end', 'cover', 'seats', 'seats_used', 'cost', 'currency', 'not_known'], all))
}
</script>

<template>
  <div class="row">
    <h2>The year ahead <span class="soft">if nothing is renewed, bought or given back</span></h2>
    <span class="tools"><el-button size="small" title="The same on the command line: lantern contract outlook --format csv --part renewals" @click="download">Save renewals as CSV</el-button></span>
  </div>
  <div class="card ahead">
    <el-table :data="rows" row-key="key">
      <el-table-column label="Account" width="120"><template #default="{ row }: { row: Row }"><b v-if="row.now">{{ row.account }}</b><span v-else class="soft">{{ row.account }}</span></template></el-table-column>
      <el-table-column label="At" width="120"><template #default="{ row }: { row: Row }"><template v-if="row.now">now</template><Moment v-else :at="row.at" day /></template></el-table-column>
      <el-table-column label="Need a seat" width="120" align="right"><template #default="{ row }: { row: Row }">{{ row.seats_needed }}</template></el-table-column>
      <el-table-column label="Seats" width="100" align="right"><template #default="{ row }: { row: Row }">{{ row.seats < 0 ? 'no limit' : row.seats }}</template></el-table-column>
      <el-table-column label="Without a seat" width="190">
        <template #default="{ row }: { row: Row }"><Mark v-if="row.seats_short" :look="progressLook.failed" :word="count(row.seats_short, 'host', 'hosts')" /><span v-else-if="unknown" class="warn">? nobody of those known</span><span v-else class="good">= nobody</span></template>
      </el-table-column>
      <el-table-column label="Ends until then" min-width="260">
        <template #default="{ row }: { row: Row }"><div v-for="r in row.ends" :key="r.contract">{{ r.contract }} <span class="soft">{{ r.cover === 'seats' ? `${r.seats_used} of ${r.seats} used` : `${r.seats_used} used` }}{{ r.not_known ? `, ${r.not_known}` : '' }}</span></div><span v-if="!row.ends.length" class="soft">nothing</span></template>
      </el-table-column>
      <el-table-column label="A further year" width="200" align="right"><template #default="{ row }: { row: Row }">{{ yearly(row.costs) }}<span v-if="!row.ends.length" class="soft">-</span></template></el-table-column>
    </el-table>
  </div>
  <p v-for="f in forecast" :key="f.account" class="soft said"><b>{{ f.account }}</b>: {{ f.costs.length ? `a year of what is good now: ${yearly(f.costs)}` : 'no contract is good now' }}; {{ grows(f) }}.</p>
</template>

<style scoped>
.row {
  display: flex;
  justify-content: space-between;
  align-items: flex-end;
}
.row h2 {
  margin-bottom: 8px;
}
.row h2 .soft {
  font-size: 15px;
  font-weight: 400;
}
.tools {
  margin-bottom: 8px;
}
.said {
  margin: 6px 0 0;
}
</style>
