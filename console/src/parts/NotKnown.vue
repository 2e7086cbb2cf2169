<script setup lang="ts">
// Counts, beside what is known of the fleet, what is not.
import { computed } from 'vue'
import type { Standing } from '../api'
import { count, number } from '../words'

const props = defineProps<{ standing: Standing }>()

type Part = [number, string, string]
const parts = computed<Part[]>(() => {
  const s = props.standing
  const all: Part[] = [
    [s.failed, 'failed, or whose agent cannot work', 'failed'],
    [s.silent, 'silent', 'silent'],
    [s.changing, 'being changed', 'changing'],
    [s.no_survey, 'without a survey yet', ''],
    [s.no_revision, 'to which no revision was carried', 'new'],
    [s.invited, 'invited and not joined', ''],
  ]
  return all.filter((p) => p[0] > 0)
})
const of = computed<Part[]>(() => {
  const s = props.standing
  const all: Part[] = [
    [s.unfetched, 'with sources that could not be refreshed', ''],
    [s.older, 'on an older revision', ''],
    [s.unread, 'on which something could not be read', ''],
    [s.waived, 'with findings that somebody waived', ''],
  ]
  return all.filter((p) => p[0] > 0)
})
</script>

<template>
  <p class="soft not-known">
    {{ number(standing.steady) }} of {{ count(standing.hosts, 'host', 'hosts') }} as the policy says<template v-if="standing.drifted">, {{ number(standing.drifted) }} drifted</template>.
    <template v-if="parts.length">
      <b class="warn">? Not known of:</b>
      <template v-for="([n, what, state], i) in parts" :key="what">{{ i ? ', ' : ' ' }}<router-link v-if="state" :to="{ name: 'fleet', query: { state } }">{{ n }} {{ what }}</router-link><template v-else>{{ n }} {{ what }}</template></template>.
    </template>
    <template v-if="of.length">
      <b class="warn">? Of the hosts:</b> {{ of.map(([n, what]) => `${n} ${what}`).join(', ') }}.
    </template>
  </p>
</template>
