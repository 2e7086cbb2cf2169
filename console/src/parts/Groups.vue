<script setup lang="ts">
// Findings, each once, with the hosts that have it.
import type { FindingGroup } from '../api'
import { useNow } from '../now'
import { count, exact, lasting, number, severityLook, short } from '../words'
import Mark from './Mark.vue'

defineProps<{ groups: FindingGroup[]; mayWaive?: boolean; brief?: boolean }>()
const emit = defineEmits<{ waive: [group: FindingGroup]; heal: [group: FindingGroup] }>()
const now = useNow()
</script>

<template>
  <ul class="card">
    <li v-for="g in groups" :key="g.class + g.file + g.want + g.have + g.repository" :data-class="g.class">
      <Mark :look="severityLook[g.severity]" :word="g.severity" />
      <div>
        <div class="what">{{ g.message }}</div>
        <div class="where mono soft">{{ g.file || 'several files' }}<template v-if="g.repository"> · repository {{ g.repository }}</template></div>
        <div v-if="g.trace && !brief" class="soft trace">{{ g.hosts > 1 ? `on ${short(g.first)}: ` : '' }}{{ g.trace }}</div>
        <div v-if="g.closes">To close it: {{ g.closes }}</div>
        <div class="hosts">
          <b>{{ count(g.hosts, 'host', 'hosts') }}:</b>
          <template v-for="(n, i) in g.names ?? []" :key="n">{{ i ? ', ' : ' ' }}<router-link :to="{ name: 'host', params: { name: n } }">{{ short(n) }}</router-link></template>
          <template v-if="g.hosts > (g.names ?? []).length"> and <router-link :to="{ name: 'drift', query: { each: 'yes', class: g.class, q: g.file || undefined } }">{{ number(g.hosts - (g.names ?? []).length) }} more</router-link></template>
        </div>
      </div>
      <div class="side">
        <span class="soft since" :title="exact(g.since)">for {{ lasting(g.since, now) }}<template v-if="g.hosts > 1 && !brief">, first on {{ short(g.first) }}</template></span>
        <span v-if="mayWaive">
          <router-link v-if="g.class === 'unlisted-source' && g.file && g.hosts === g.names.length" class="take" :to="{ name: 'policy', query: { adopt: g.names.join(','), at: g.file } }">Take into the policy</router-link>
          <el-button v-if="!g.closes" size="small" @click="emit('heal', g)">Heal</el-button>
          <el-button size="small" @click="emit('waive', g)">Waive</el-button>
        </span>
      </div>
    </li>
  </ul>
</template>

<style scoped src="./findings.css"></style>
<style scoped>
.take {
  margin-right: 12px;
  font-size: 13px;
}
</style>
