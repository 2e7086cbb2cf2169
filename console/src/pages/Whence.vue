<script setup lang="ts">
// Where hosts would get a package from, in which version, and why.
import { computed, ref, watch } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { useRoute, useRouter } from 'vue-router'
import { client, told, type Schemas } from '../api'
import Asked from '../parts/Asked.vue'
import Silent from '../parts/Silent.vue'
import { count, number, short } from '../words'

const route = useRoute()
const router = useRouter()
const asked = computed(() => (typeof route.query.package === 'string' ? route.query.package : ''))
const to = computed(() => (typeof route.query.to === 'string' ? route.query.to : ''))
const name = ref(asked.value)
const hosts = ref(to.value)
watch([asked, to], () => {
  name.value = asked.value
  hosts.value = to.value
})
const got = useQuery({
  queryKey: computed(() => ['whence', asked.value, to.value]),
  queryFn: () => told(client.GET('/api/whence', { params: { query: { package: asked.value, to: to.value ? to.value.split(/\s+/) : [], per_page: 200 } } })),
  enabled: computed(() => asked.value !== ''),
  // Until hosts have answered whether it is installed, it is looked at again; less often when they let one wait.
  refetchInterval: (q) => (q.state.data?.items.some((r) => !r.installed_known) ? (q.state.dataUpdateCount < 24 ? 5000 : 60_000) : false),
})
const w = computed(() => got.data.value)
const rows = computed(() => (w.value?.items ?? []).filter((r) => r.offers.length || r.installed || r.unread_sources.length))

function says(r: Schemas['WhenceRow']): string {
  if (r.takes && !r.stays) return r.installed ? `would become ${r.takes.version}` : `would be ${r.takes.version}`
  if (r.takes || (r.installed && (r.offers.length || !r.unread_sources.length))) return 'stays as it is'
  return r.unread_sources.length ? 'not known' : 'would not be found'
}
</script>

<template>
  <p class="soft"><router-link :to="{ name: 'repositories' }">Repositories</router-link></p>
  <div class="head">
    <h1>{{ asked ? `Where would ${asked} come from?` : 'Where would a package come from?' }}</h1>
  </div>
  <form class="ask" @submit.prevent="router.replace({ query: { package: name, ...(hosts ? { to: hosts } : {}) } })">
    <el-input v-model="name" class="name" placeholder="Name of a package" aria-label="Name of a package" />
    <el-input v-model="hosts" class="name" placeholder="All hosts, or groups and hosts" aria-label="Hosts and groups" clearable />
    <el-button type="primary" native-type="submit" :disabled="!name">Look it up</el-button>
  </form>
  <Asked :of="[got]" />
  <template v-if="w">
    <p v-if="w.nowhere" class="soft">On {{ count(w.nowhere, 'host', 'hosts') }} of {{ number(w.hosts) }} no source that is known offers it.</p>
    <p v-if="w.unsure" class="warn"><b>? {{ count(w.unsure, 'host has', 'hosts have') }}</b> sources of which it is not known what they offer: the answer for them may be another.</p>
    <p v-if="w.unknown" class="warn"><b>? {{ count(w.unknown, 'host has', 'hosts have') }}</b> sent no survey yet.</p>
    <p v-if="w.silent"><Silent :hosts="w.silent" /></p>
    <section v-for="(r, i) in rows" :key="i" class="card row">
      <div>
        <b>{{ count(r.hosts, 'host', 'hosts') }}</b> <span class="soft">{{ r.family }}, {{ r.systems.join(', ') }}:</span>
        <template v-for="(n, j) in r.names" :key="n">{{ j ? ', ' : ' ' }}<router-link :to="{ name: 'host', params: { name: n } }">{{ short(n) }}</router-link></template><span v-if="r.hosts > r.names.length" class="soft"> and {{ r.hosts - r.names.length }} more</span>
      </div>
      <div class="verdict">
        <b :class="{ warn: !r.takes }">{{ says(r) }}</b><template v-if="r.takes && !r.stays"> from <span class="mono">{{ r.takes.from }} {{ r.takes.suite }}</span></template>
        <div class="soft">{{ r.why }}</div>
      </div>
      <div v-if="!r.installed_known" class="warn small">? whether it is installed is being asked of the hosts</div>
      <div v-else class="small">{{ r.installed ? `installed: ${r.installed}` : 'not installed' }}</div>
      <table v-if="r.offers.length > 1 || r.offers[0]?.out || (r.stays && r.offers.length)" class="offers">
        <thead><tr><th></th><th>Version</th><th>For</th><th class="num">Priority</th><th>Offered by</th><th></th></tr></thead>
        <tbody>
          <tr v-for="(o, j) in r.offers" :key="j">
            <td>{{ r.takes && j === 0 ? '›' : '' }}</td><td class="mono">{{ o.version }}</td><td>{{ o.arch }}</td><td class="num">{{ o.priority }}</td><td class="mono">{{ o.from }} {{ o.suite }}</td><td class="warn">{{ o.out }}</td>
          </tr>
        </tbody>
      </table>
      <div v-for="u in r.unread_sources" :key="u" class="warn small">? {{ u }}</div>
    </section>
    <p class="soft">It rests on what the service saw upstream last. The same on the command line: <code>lantern whence {{ asked }}</code></p>
  </template>
</template>

<style scoped>
.ask {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  margin-bottom: 14px;
}
.name {
  width: 280px;
}
h1 {
  overflow-wrap: anywhere;
}
.row {
  padding: 12px 14px;
  margin-bottom: 12px;
  overflow-wrap: anywhere;
}
.verdict {
  margin: 6px 0;
}
.offers {
  border-collapse: collapse;
  margin: 8px 0;
  font-size: 14px;
}
.offers th {
  text-align: left;
  font-weight: 400;
  color: var(--soft);
}
.offers th,
.offers td {
  padding: 2px 14px 2px 0;
  overflow-wrap: anywhere;
}
.offers .num {
  text-align: right;
}
</style>
