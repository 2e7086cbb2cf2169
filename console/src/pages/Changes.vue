<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { useAddress } from '../address'
import { client, told, type Rollout } from '../api'
import { useNow } from '../now'
import Asked from '../parts/Asked.vue'
import Diff from '../parts/Diff.vue'
import Empty from '../parts/Empty.vue'
import HostProgress from '../parts/HostProgress.vue'
import Silent from '../parts/Silent.vue'
import Trouble from '../parts/Trouble.vue'
import { useMayChange } from '../role'
import { ago, count, editWord, missing, sentence, short } from '../words'

const now = useNow()
const revisions = useQuery({ queryKey: ['revisions'], queryFn: () => told(client.GET('/api/revisions')) })
const latestRevision = computed(() => revisions.data.value?.items[0])
// While somebody reads and is about to begin, the revision stays the one that was read: one that
// is published meanwhile is told, and not carried unread.
const read = ref<number>()
const newest = computed(() => (read.value === undefined ? latestRevision.value : revisions.data.value?.items.find((r) => r.number === read.value)) ?? latestRevision.value)
const meanwhile = computed(() => (read.value !== undefined && latestRevision.value && latestRevision.value.number !== read.value ? latestRevision.value.number : 0))
const preview = useQuery({
  queryKey: computed(() => ['preview', newest.value?.number]),
  queryFn: () => told(client.GET('/api/preview', { params: { query: { revision: newest.value?.number } } })),
  enabled: computed(() => newest.value !== undefined),
})
const seatsMissing = computed(() => (preview.data.value ? preview.data.value.seats_ahead.short.length + preview.data.value.seats_ahead.by_hand.length > 0 : false))
const taking = computed(() => {
  const by = new Map<string, string[]>()
  for (const t of preview.data.value?.seats_ahead.taking ?? []) by.set(t.contract, [...(by.get(t.contract) ?? []), t.host])
  return [...by]
})
// What people should look at first: a remark, and the hosts that it is about.
type Group = NonNullable<typeof preview.data.value>['groups'][number]
function gathered(of: (g: Group) => string[] | undefined) {
  const by = new Map<string, string[]>()
  for (const g of preview.data.value?.groups ?? []) for (const text of of(g) ?? []) by.set(text, [...(by.get(text) ?? []), ...g.names])
  return [...by]
}
const weakens = computed(() => gathered((g) => g.weakens))
const overrides = computed(() => gathered((g) => g.overrides))
const rollouts = useQuery({ queryKey: ['rollouts', 'latest'], queryFn: () => told(client.GET('/api/rollouts', { params: { query: { per_page: 1 } } })) })
const latest = computed(() => rollouts.data.value?.items[0])
const hostsShown = 50
const { page: hostPage, turned } = useAddress()
watch(() => latest.value?.id, (_, before) => { if (before && hostPage.value > 1) turned.value = 1 })
const shown = useQuery({
  queryKey: computed(() => ['rollout', latest.value?.id, hostPage.value]),
  queryFn: () => told(client.GET('/api/rollouts/{id}', { params: { path: { id: latest.value?.id ?? 0 }, query: { page: hostPage.value, per_page: hostsShown } } })),
  enabled: computed(() => latest.value !== undefined),
})
const underWay = computed(() => latest.value !== undefined && latest.value.ended === null && latest.value.phase !== 'held')
const error = ref<Error | null>(null)
const busy = ref(false)
const asking = ref(false)
const mayChange = useMayChange()

// What the waves would be is asked when somebody is about to begin.
const waves = useQuery({
  queryKey: computed(() => ['rollout', 'plan', newest.value?.number]),
  queryFn: () => told(client.POST('/api/rollouts', { body: { revision: newest.value?.number, try: true } })),
  enabled: asking,
  retry: false,
})
const wavesSay = computed(() => (waves.data.value?.parts ?? []).map((p) => p.hosts).join(', then '))
const kept = computed(() => (waves.data.value?.parts ?? []).reduce((sum, p) => sum + p.hosts, 0) - (preview.data.value?.changing ?? 0))

function ask() {
  read.value = newest.value?.number
  asking.value = true
}
function leave() {
  asking.value = false
  read.value = undefined
}
async function begin() {
  asking.value = false
  busy.value = true
  error.value = null
  try {
    await told(client.POST('/api/rollouts', { body: { revision: read.value ?? newest.value?.number } }))
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = false
    read.value = undefined
  }
}

const finished = (r: Rollout) => (r.counts.done ?? 0) + (r.counts.unchanged ?? 0) + (r.counts.failed ?? 0) + (r.counts.behind ?? 0) + (r.counts.skipped ?? 0)
const all = (r: Rollout) => Object.values(r.counts).reduce((a, b) => a + b, r.not_reached ?? 0)
</script>

<template>
  <div class="head">
    <h1 v-if="revisions.data.value && !newest">Nothing is published yet</h1>
    <h1 v-else-if="newest && preview.data.value">
      Revision {{ newest.number }}
      <template v-if="preview.data.value.changing">would change <span class="warn">{{ count(preview.data.value.changing, 'host', 'hosts') }}</span></template>
      <template v-else>would change <span class="good">none</span> of the hosts that are known</template>
    </h1>
    <template v-if="newest && mayChange">
      <span v-if="asking" class="asking card" role="alertdialog" aria-label="Begin the rollout?">
        <span>Carry revision {{ newest.number }} to {{ count(preview.data.value?.changing ?? 0, 'host', 'hosts') }}<template v-if="weakens.length">, <b class="bad">which weakens security</b></template>?<span v-if="wavesSay" class="soft"> In {{ count(waves.data.value?.wave_count ?? 0, 'wave', 'waves') }}: {{ wavesSay }}<template v-if="kept > 0">; {{ count(kept, 'of them has', 'of them have') }} nothing to change</template>.</span><span v-if="waves.data.value?.took_over" class="warn"> Rollout {{ waves.data.value.took_over }}, which is held, makes way.</span></span>
        <b v-if="meanwhile" class="warn">! Revision {{ meanwhile }} was published meanwhile; this carries revision {{ newest.number }}.</b>
        <el-button @click="leave">Not now</el-button>
        <el-button type="primary" :loading="busy" @click="begin">Begin it</el-button>
      </span>
      <el-button v-else type="primary" size="large" :loading="busy || underWay" :disabled="!preview.data.value?.changing || seatsMissing" @click="ask">{{ underWay ? 'Under way' : `Begin rollout of revision ${newest.number}` }}</el-button>
    </template>
  </div>
  <p v-if="newest" class="soft">published by {{ newest.author }} {{ ago(newest.created, now) }}<template v-if="newest.message">: {{ newest.message }}</template></p>
  <Empty v-else-if="revisions.data.value">Publish a policy folder: <code>lantern policy publish FOLDER</code></Empty>
  <Trouble class="told" :error="error" />
  <Asked :of="[revisions, preview]" />
  <p v-if="preview.data.value && (preview.data.value.unknown_names.length || preview.data.value.unmanaged || preview.data.value.unsure_names.length)" class="soft">
    <b class="warn">? Not looked at:</b>
    <template v-if="preview.data.value.unknown_names.length">{{ ' ' }}{{ count(preview.data.value.unknown_names.length, 'host has', 'hosts have') }} sent no survey yet ({{ preview.data.value.unknown_names.slice(0, 6).map(short).join(', ') }}).</template>
    <template v-if="preview.data.value.unmanaged">{{ ' ' }}{{ count(preview.data.value.unmanaged, 'host is', 'hosts are') }} of a family that cannot be changed.</template>
    <template v-if="preview.data.value.unsure_names.length">{{ ' ' }}{{ count(preview.data.value.unsure_names.length, 'host has', 'hosts have') }} not said yet whether what a repository needs is there.</template>
  </p>
  <p v-if="preview.data.value?.drifted" class="warn"><router-link :to="{ name: 'drift' }">! {{ count(preview.data.value.drifted, 'host has', 'hosts have') }}</router-link> all of it, with findings that it leaves as they are.</p>
  <p v-if="preview.data.value?.silent"><Silent :hosts="preview.data.value.silent" :names="preview.data.value.silent_names" /></p>

  <div v-if="preview.data.value && seatsMissing" class="card seats bad">
    <div v-for="s in preview.data.value.seats_ahead.short" :key="s.group + s.account"><b>✗ {{ s.group }}: {{ s.seats_short }} of {{ count(s.seats_needed, 'seat is', 'seats are') }} missing.</b> No rollout begins before there are enough. Without: {{ s.names.map(short).join(', ') }}. <span class="soft">{{ s.why }}</span></div>
    <div v-if="preview.data.value.seats_ahead.by_hand.length"><b>✗ {{ count(preview.data.value.seats_ahead.by_hand.length, 'host needs', 'hosts need') }} a seat that nobody has taken:</b> <template v-for="(h, i) in preview.data.value.seats_ahead.by_hand" :key="h">{{ i ? ', ' : ' ' }}<router-link :to="{ name: 'host', params: { name: h } }">{{ short(h) }}</router-link></template></div>
  </div>
  <p v-else-if="preview.data.value?.seats_ahead.taking.length" class="soft">A rollout takes {{ count(preview.data.value.seats_ahead.taking.length, 'seat', 'seats') }}: {{ taking.map(([n, hosts]) => `${hosts.length} in ${n} (${hosts.slice(0, 6).map(short).join(', ')}${hosts.length > 6 ? ', …' : ''})`).join(', ') }}</p>

  <div v-if="weakens.length + overrides.length + (preview.data.value?.sources_gone.length ?? 0) + (preview.data.value?.swaps.length ?? 0) + (preview.data.value?.unforeseen.length ?? 0) + (preview.data.value?.refused.length ?? 0)" class="card first">
    <div v-for="[text, hosts] in weakens" :key="text"><b class="bad">!! weakens security:</b> {{ text }} <span class="soft">on {{ hosts.slice(0, 8).map(short).join(', ') }}{{ hosts.length > 8 ? ` and ${hosts.length - 8} more` : '' }}</span></div>
    <div v-for="[text, hosts] in overrides" :key="text"><b class="warn">! order:</b> {{ text }} <span class="soft">on {{ hosts.slice(0, 8).map(short).join(', ') }}{{ hosts.length > 8 ? ` and ${hosts.length - 8} more` : '' }}</span></div>
    <div v-for="r in preview.data.value?.refused ?? []" :key="r.key"><b class="bad">!! refused upstream:</b> <router-link :to="{ name: 'repository', params: { key: r.key } }">{{ r.address }}</router-link>, for {{ count(r.hosts, 'host', 'hosts') }}: {{ r.says }}. <span class="soft">{{ sentence(r.remedy ?? '') }}</span></div>
    <div v-for="x in (preview.data.value?.swaps ?? []).slice(0, 20)" :key="x.says"><b :class="x.what === 'lower' ? 'bad' : 'warn'">{{ x.what === 'lower' ? '!! a package goes down:' : x.what === 'stranded' ? '! a package is left behind:' : '! a package is swapped:' }}</b> {{ x.says }}</div>
    <div v-if="(preview.data.value?.swaps.length ?? 0) > 20" class="soft">and {{ (preview.data.value?.swaps.length ?? 0) - 20 }} more; <code>lantern policy preview --format json</code> shows all</div>
    <div v-for="u in preview.data.value?.unforeseen ?? []" :key="u.why" class="warn"><b>? {{ u.hosts === 1 ? 'of 1 host' : `of ${u.hosts} hosts` }}</b> it is not known which packages would be swapped: {{ u.why }}</div>
    <div v-for="g in preview.data.value?.sources_gone ?? []" :key="g.source"><b class="warn">! a source goes:</b> {{ g.says }}</div>
  </div>

  <template v-if="latest && shown.data.value">
    <h2>{{ latest.kind === 'heal' ? 'Last healing' : 'Last rollout' }}</h2>
    <div class="card rollout">
      <div class="line">
        <b>{{ latest.kind }} {{ latest.id }}</b><span>revision {{ latest.revision }} by {{ latest.author }}, begun {{ ago(latest.begun, now) }}</span>
        <el-progress class="grow" aria-label="How far it is" :percentage="Math.round((100 * finished(shown.data.value)) / Math.max(1, all(shown.data.value)))" :status="shown.data.value.counts.failed ? 'exception' : missing(shown.data.value) || shown.data.value.stopped ? 'warning' : latest.ended ? 'success' : undefined">{{ finished(shown.data.value) }} of {{ all(shown.data.value) }}</el-progress>
      </div>
      <div v-if="!latest.ended" class="says" :class="{ bad: latest.phase === 'held', warn: latest.phase === 'asking' }">{{ latest.says }} <router-link :to="{ name: 'rollout', params: { id: latest.id } }">Waves, gates and what to press</router-link></div>
      <HostProgress v-for="h in shown.data.value.progress" :key="h.host" :host="h" />
      <el-pagination v-if="(shown.data.value.total ?? 0) > hostsShown" v-model:current-page="turned" class="pages" layout="prev, pager, next, total" :total="shown.data.value.total" :page-size="hostsShown" />
    </div>
  </template>

  <template v-if="preview.data.value?.groups.length">
    <h2>What would change, and where</h2>
    <section v-for="(g, i) in preview.data.value.groups" :key="i" class="group">
      <h3>{{ count(g.names.length, 'host', 'hosts') }}: <router-link v-for="h in g.names.slice(0, 12)" :key="h" :to="{ name: 'host', params: { name: h } }">{{ short(h) }}</router-link><span v-if="g.names.length > 12" class="soft">and {{ g.names.length - 12 }} more</span></h3>
      <ul><li v-for="f in g.files" :key="f.action + f.path + f.reasons[0]"><span class="soft">{{ editWord(f.action) }}</span> <span class="mono">{{ f.path }}</span> <span class="soft">because of {{ f.reasons.join('; ') }}</span></li></ul>
      <p v-for="x in g.impossible" :key="x" class="bad">!! cannot be done: {{ x }}</p>
      <Diff :text="g.diff" />
    </section>
  </template>

  <p v-if="latest"><router-link to="/rollouts">All rollouts</router-link></p>
</template>

<style scoped>
.seats,
.first {
  padding: 12px 14px;
  margin: 12px 0;
}
.asking {
  display: flex;
  gap: 12px;
  align-items: center;
  padding: 8px 14px;
}
.head {
  display: flex;
  justify-content: space-between;
  align-items: center;
  flex-wrap: wrap;
  gap: 8px 20px;
}
.rollout {
  padding: 10px 14px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 18px;
  align-items: baseline;
}
.grow {
  flex: 1 1 140px;
}
.says {
  padding: 4px 0;
}
.group {
  margin: 14px 0 22px;
}
h3 {
  font-size: 15px;
  margin: 0;
}
h3 a {
  margin-right: 10px;
}
ul {
  margin: 4px 0;
  padding-left: 18px;
}
</style>
