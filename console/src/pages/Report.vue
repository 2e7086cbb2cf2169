<script setup lang="ts">
// All findings on paper: what differs, on which hosts, since when, and what is not known.
import { computed } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { client, told, type FindingGroup, type Standing } from '../api'
import Asked from '../parts/Asked.vue'
import Moment from '../parts/Moment.vue'
import NotKnown from '../parts/NotKnown.vue'
import { count, number, severityLook, short } from '../words'

const perPage = 500
const report = useQuery({
  queryKey: ['drift', 'report'],
  staleTime: Infinity, // it is of one moment, which stands on it
  queryFn: async () => {
    const groups: FindingGroup[] = []
    let standing: Standing | undefined
    for (let page = 1; ; page++) {
      const got = await told(client.GET('/api/drift/groups', { params: { query: { page, per_page: perPage, sort: 'severity' } } }))
      standing = got.standing
      groups.push(...got.items)
      if (got.items.length < perPage) return { groups, standing: standing!, hosts: got.hosts, at: new Date().toISOString() }
    }
  },
})
const kinds = computed(() =>
  ['danger', 'fault', 'note']
    .map((severity) => ({ severity, list: (report.data.value?.groups ?? []).filter((g) => g.severity === severity) }))
    .filter((k) => k.list.length),
)
const says: Record<string, string> = {
  danger: 'packages could come from somebody who should not supply them',
  fault: 'the host does not get what it should, or gets what it should not',
  note: 'worth knowing',
}
const place = window.location.host
function print() {
  window.print()
}
</script>

<template>
  <Asked :of="[report]" />
  <article v-if="report.data.value">
    <div class="head">
      <div>
        <h1>Package sources that differ from the policy</h1>
        <p class="soft">{{ place }}, as of <Moment :at="report.data.value.at" /></p>
      </div>
      <el-button class="press" type="primary" @click="print">Print</el-button>
    </div>
    <NotKnown :standing="report.data.value.standing" />
    <p v-if="!kinds.length"><b>No findings</b> on the hosts that are known.</p>
    <section v-for="k in kinds" :key="k.severity">
      <h2>{{ severityLook[k.severity].sign }} {{ k.severity }} <span class="soft">{{ count(k.list.length, 'finding', 'findings') }}: {{ says[k.severity] }}</span></h2>
      <table>
        <thead>
          <tr><th>What differs</th><th>Where</th><th>Hosts</th><th>Since</th></tr>
        </thead>
        <tbody>
          <tr v-for="(g, i) in k.list" :key="i">
            <td>{{ g.message }}<div v-if="g.trace" class="soft">{{ g.hosts > 1 ? `on ${short(g.first)}: ` : '' }}{{ g.trace }}</div></td>
            <td class="mono">{{ g.file || 'several files' }}</td>
            <td><b>{{ number(g.hosts) }}</b>: {{ g.names.map(short).join(', ') }}<template v-if="g.hosts > g.names.length"> and {{ number(g.hosts - g.names.length) }} more</template></td>
            <td><Moment :at="g.since" /></td>
          </tr>
        </tbody>
      </table>
    </section>
  </article>
</template>

<style scoped>
article {
  max-width: 1100px;
}
.head {
  display: flex;
  justify-content: space-between;
  align-items: flex-start;
  gap: 16px;
}
h2 {
  margin: 22px 0 8px;
}
h2 .soft {
  font-weight: 400;
  font-size: 15px;
}
table {
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
}
th,
td {
  text-align: left;
  vertical-align: top;
  padding: 6px 10px 6px 0;
  border-bottom: 1px solid var(--line);
  overflow-wrap: anywhere;
}
th:nth-child(1) {
  width: 46%;
}
th:nth-child(4) {
  width: 14%;
}
@media print {
  .press {
    display: none;
  }
  tr {
    break-inside: avoid;
  }
  h2 {
    break-after: avoid;
  }
}
</style>
