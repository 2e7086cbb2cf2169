<script setup lang="ts">
import type { Finding } from '../api'
import { useNow } from '../now'
import { ago, exact, severityLook, short } from '../words'
import Mark from './Mark.vue'

defineProps<{ findings: Finding[]; hosts?: boolean; mayTake?: boolean }>()
const takeable = (f: Finding) => f.class === 'unlisted-source' && f.file !== ''
const now = useNow()
</script>

<template>
  <ul class="card">
    <li v-for="(f, i) in findings" :key="i" :data-class="f.class">
      <Mark :look="severityLook[f.severity]" :word="f.severity" />
      <div>
        <div class="what">
          <router-link v-if="hosts" :to="{ name: 'host', params: { name: f.host } }">{{ short(f.host) }}</router-link>
          <span>{{ f.message }}</span>
        </div>
        <div class="where mono soft">{{ f.file || 'several files' }}<template v-if="f.line">:{{ f.line }}</template><template v-if="f.repository"> · repository {{ f.repository }}</template></div>
        <div v-if="f.trace" class="soft trace">{{ f.trace }}</div>
      </div>
      <span class="side">
        <router-link v-if="mayTake && takeable(f)" :to="{ name: 'policy', query: { adopt: f.host, at: f.line ? `${f.file}:${f.line}` : f.file } }">Take into the policy</router-link>
        <span class="soft since" :title="exact(f.since)">since {{ ago(f.since, now) }}</span>
      </span>
    </li>
  </ul>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 96px minmax(0, 1fr) auto;
  gap: 12px;
  padding: 10px 14px;
  border-bottom: 1px solid var(--line);
}
li:last-child {
  border-bottom: 0;
}
.where,
.trace {
  overflow-wrap: anywhere;
}
.what {
  display: flex;
  gap: 12px;
  overflow-wrap: anywhere;
}
.what span {
  min-width: 0;
}
.what a {
  white-space: nowrap;
}
.side {
  display: flex;
  flex-direction: column;
  align-items: flex-end;
  gap: 4px;
}
.since {
  white-space: nowrap;
  font-size: 13px;
}
@media (max-width: 700px) {
  li {
    grid-template-columns: minmax(0, 1fr);
    gap: 4px;
  }
  .side {
    flex-flow: row wrap;
    align-items: baseline;
    justify-content: flex-start;
    gap: 4px 12px;
  }
  .since {
    white-space: normal;
  }
}
</style>
