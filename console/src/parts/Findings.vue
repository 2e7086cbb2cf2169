<script setup lang="ts">
import type { Finding } from '../api'
import { useNow } from '../now'
import { exact, lasting, severityLook, short } from '../words'
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
        <div v-if="f.closes">To close it: {{ f.closes }}</div>
      </div>
      <span class="side">
        <router-link v-if="mayTake && takeable(f)" :to="{ name: 'policy', query: { adopt: f.host, at: f.line ? `${f.file}:${f.line}` : f.file } }">Take into the policy</router-link>
        <span class="soft since" :title="exact(f.since)">for {{ lasting(f.since, now) }}</span>
      </span>
    </li>
  </ul>
</template>

<style scoped src="./findings.css"></style>
<style scoped>
.what {
  display: flex;
  gap: 12px;
}
.what span {
  min-width: 0;
}
.what a {
  white-space: nowrap;
}
</style>
