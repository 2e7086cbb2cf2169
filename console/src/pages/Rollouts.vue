<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { useAddress } from '../address'
import { client, told, type Rollout } from '../api'
import { queries } from '../live'
import { useNow } from '../now'
import AskWhy from '../parts/AskWhy.vue'
import Asked from '../parts/Asked.vue'
import BackOut from '../parts/BackOut.vue'
import Empty from '../parts/Empty.vue'
import FreezeBox from '../parts/FreezeBox.vue'
import Freezes from '../parts/Freezes.vue'
import HostProgress from '../parts/HostProgress.vue'
import Mark from '../parts/Mark.vue'
import Moment from '../parts/Moment.vue'
import Trouble from '../parts/Trouble.vue'
import Waves from '../parts/Waves.vue'
import { useMayChange, useSession } from '../role'
import { ago, count, leftOut, missing, number, progressLook, sentence, short } from '../words'

const props = defineProps<{ id?: string }>()
const now = useNow()
const mayChange = useMayChange()
const session = useSession(() => true)

const { page: hostPage, turn, turned, word: wordOf } = useAddress()
const listPage = turn('list')
const listShown = 20
const rollouts = useQuery({
  queryKey: computed(() => ['rollouts', listPage.value]),
  queryFn: () => told(client.GET('/api/rollouts', { params: { query: { page: listPage.value, per_page: listShown } } })),
})
const first = computed(() => rollouts.data.value?.items.find((r) => r.ended === null && r.kind !== 'heal') ?? rollouts.data.value?.items[0])
// While somebody is asked, the page stays at the rollout of which it asks, and what is answered is meant
// as it was read: another one may begin meanwhile, and this one go on.
const kept = ref<{ id: number; since: string | null }>()
const id = computed(() => kept.value?.id ?? (props.id ? Number(props.id) : (first.value?.id ?? 0)))
const state = wordOf('state')
const hostsShown = 50
watch(id, (_, before) => { if (before && hostPage.value > 1) turned.value = 1 })
const shown = useQuery({
  queryKey: computed(() => ['rollout', id.value, hostPage.value, state.value]),
  queryFn: () =>
    told(client.GET('/api/rollouts/{id}', { params: { path: { id: id.value }, query: { page: hostPage.value, per_page: hostsShown, state: state.value ? [state.value] : undefined } } })),
  enabled: computed(() => id.value > 0),
})
const r = computed(() => shown.data.value)
const counted = computed(() => Object.entries(r.value?.counts ?? {}).filter(([, n]) => n > 0))

const headline = computed(() => {
  const x = r.value
  if (!x) return ''
  const what = x.kind === 'back-out' ? `Back-out ${x.id} of rollout ${x.of}` : x.kind === 'heal' ? `Healing ${x.id}` : `Rollout ${x.id} of revision ${x.revision}`
  if (x.ended) return `${what} ${x.stopped ? 'was stopped' : 'has ended'}`
  return `${what} ${{ held: 'is held', asking: 'waits for consent', soaking: 'lets time pass', changing: 'is under way' }[x.phase as string] ?? 'is under way'}`
})
const missed = computed(() => (r.value?.ended ? missing(r.value) : 0))
const tone = computed(() => (r.value?.phase === 'held' ? 'bad' : r.value?.phase === 'asking' ? 'warn' : ''))

type Lever = 'hold' | 'proceed' | 'consent' | 'skip'
const asked = ref<Lever>('hold')
const asking = ref(false)
const backing = ref(false)
const freezing = ref(false)
const skipped = ref('') // the host that is to be left out
const busy = ref(false)
const error = ref<Error | null>(null)
const remaining = computed(() => (r.value?.counts.queued ?? 0) + (r.value?.counts.waiting ?? 0))
const texts: Record<Lever, { title: string; verb: string; text: () => string }> = {
  hold: { title: 'Hold the rollout', verb: 'Hold it', text: () => `${count(remaining.value, 'host has', 'hosts have')} not begun and will not. ${count(r.value?.counts.working ?? 0, 'host', 'hosts')} at work will end by themselves.` },
  proceed: { title: 'Let the rollout go on', verb: 'Go on', text: () => `It is ${r.value?.says}. ${count(remaining.value, 'host is', 'hosts are')} still to be changed. What held it is borne as it stands, and holds again where more hosts come.` },
  consent: { title: `Agree to the next wave`, verb: 'Agree', text: () => r.value?.says ?? '' },
  skip: { title: 'Leave a host out', verb: 'Skip it', text: () => `${skipped.value} stays as it is, and the rollout goes on without it. Where it differs from the policy it goes on being found.` },
}
const same = computed(() => (asked.value === 'skip' ? `lantern rollout skip ${short(skipped.value)} --rollout ${id.value} --because …` : `lantern rollout ${asked.value} ${id.value} --because …`))
function stay() {
  kept.value = r.value && { id: r.value.id, since: r.value.since ?? null }
}
function ask(l: Lever) {
  asked.value = l
  stay()
  asking.value = true
}
function askBack() {
  stay()
  backing.value = true
}
watch([asking, backing], ([a, b]) => {
  if (!a && !b) kept.value = undefined
})

function skip(host: string) {
  skipped.value = host
  ask('skip')
}

async function pull(why: string) {
  const of = kept.value
  if (!of) return
  busy.value = true
  error.value = null
  asking.value = false
  const call = { params: { path: { id: of.id } }, body: { because: why, since: of.since ?? undefined } }
  try {
    if (asked.value === 'hold') await told(client.POST('/api/rollouts/{id}/hold', { ...call, body: { because: why } }))
    else if (asked.value === 'proceed') await told(client.POST('/api/rollouts/{id}/proceed', call))
    else if (asked.value === 'skip') await told(client.POST('/api/rollouts/{id}/skip', { ...call, body: { because: why, host: skipped.value } }))
    else await told(client.POST('/api/rollouts/{id}/consent', call))
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = false
    void queries.invalidateQueries({ queryKey: ['rollout'] })
  }
}
const look = (x: Rollout) => (!x.ended ? (x.phase === 'held' ? progressLook.failed : progressLook.working) : x.counts.failed ? progressLook.failed : leftOut(x) || x.stopped ? progressLook.behind : progressLook.done)
const word = (x: Rollout) => (x.ended ? (x.stopped ? 'stopped' : 'ended') : x.phase === 'held' ? 'held' : 'under way')

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = NonNullable<typeof rollouts.data.value>['items'][number]
</script>

<template>
  <Asked :of="[rollouts, shown]" />
  <Freezes />
  <h1 v-if="rollouts.data.value && !rollouts.data.value.total">No rollout yet</h1>
  <Empty v-if="rollouts.data.value && !rollouts.data.value.total"><router-link to="/changes">See what the newest revision would change</router-link>, and begin one there.</Empty>
  <template v-if="r">
    <div class="head">
      <h1 :class="tone">{{ headline }}<template v-if="missed">, not done on <span class="warn">{{ count(missed, 'host', 'hosts') }}</span></template></h1>
      <span v-if="mayChange" class="levers">
        <template v-if="!r.ended">
          <el-button v-if="r.phase === 'held'" size="large" :loading="busy" @click="ask('proceed')">Go on</el-button>
          <el-button v-else size="large" type="warning" :loading="busy" @click="ask('hold')">Hold</el-button>
          <el-button v-if="r.phase === 'asking' && session.data.value?.operator !== r.author" size="large" type="primary" :loading="busy" @click="ask('consent')">Agree</el-button>
        </template>
        <el-button v-if="r.counts.done || r.counts.working" size="large" :type="r.phase === 'held' ? 'danger' : undefined" @click="askBack">Back out</el-button>
        <el-button size="large" @click="freezing = true">Freeze …</el-button>
      </span>
    </div>
    <p class="soft">by {{ r.author }}, begun {{ ago(r.begun, now) }}<template v-if="r.because">: {{ r.because }}</template></p>
    <p v-if="!r.ended && r.phase !== 'held'" class="says">{{ r.says }}</p>
    <Trouble class="told" :error="error" />
    <div v-if="r.phase === 'held'" class="card held">
      <b class="bad">✗ {{ r.says }}</b>
      <div class="soft">No further host begins. Hosts that failed were put back as they were. Go on{{ r.counts.done || r.counts.working ? ', take it back' : '' }}, or publish what is right and begin: this one makes way.</div>
    </div>
    <div v-if="r.causes?.length" class="card held">
      <div v-for="c in r.causes" :key="c.step + c.message" class="cause">
        <b class="bad">{{ count(c.hosts, 'host', 'hosts') }} failed at {{ c.step }}:</b> {{ c.message }}
        <div v-if="c.says"><b>{{ sentence(c.says) }}.</b> {{ sentence(c.remedy ?? '') }}.</div>
        <span class="soft"><router-link v-for="h in c.names.slice(0, 6)" :key="h" :to="{ name: 'host', params: { name: h } }">{{ short(h) }} </router-link><template v-if="c.hosts > 6">and {{ c.hosts - Math.min(6, c.names.length) }} more</template></span>
      </div>
    </div>
    <Waves :rollout="r" />
    <h2>Hosts</h2>
    <div class="card hosts">
      <div class="filters">
        <el-button size="small" :type="state === '' ? 'primary' : undefined" @click="state = ''">all</el-button>
        <el-button v-for="[s, n] in counted" :key="s" size="small" :type="state === s ? 'primary' : undefined" @click="state = s">{{ n }} {{ s }}</el-button>
        <span v-if="r.not_reached" class="warn aside">! {{ count(r.not_reached, 'host was', 'hosts were') }} not reached, and {{ r.not_reached === 1 ? 'keeps what it has' : 'keep what they have' }}</span>
      </div>
      <HostProgress v-for="h in r.progress" :key="h.host" :host="h" :skippable="mayChange && !r.ended" @skip="skip" />
      <el-pagination v-if="(r.total ?? 0) > hostsShown" v-model:current-page="turned" class="pages" layout="prev, pager, next, total" :total="r.total" :page-size="hostsShown" />
    </div>
  </template>

  <template v-if="rollouts.data.value?.items.length">
    <h2>All rollouts</h2>
    <div class="card">
      <el-table :data="rollouts.data.value.items">
        <el-table-column label="No." width="70" align="right"><template #default="{ row }: { row: Row }"><router-link :to="{ name: 'rollout', params: { id: row.id } }">{{ row.id }}</router-link></template></el-table-column>
        <el-table-column prop="kind" label="Kind" width="100" />
        <el-table-column prop="revision" label="Revision" width="96" align="right" />
        <el-table-column prop="author" label="By" min-width="90" />
        <el-table-column label="Begun" min-width="205"><template #default="{ row }: { row: Row }"><Moment :at="row.begun" /></template></el-table-column>
        <el-table-column label="Waves" width="80" align="right"><template #default="{ row }: { row: Row }">{{ row.wave }} of {{ row.wave_count }}</template></el-table-column>
        <el-table-column label="Done" width="80" align="right"><template #default="{ row }: { row: Row }">{{ number(row.counts.done) }}</template></el-table-column>
        <el-table-column label="Unchanged" width="124" align="right"><template #default="{ row }: { row: Row }">{{ number(row.counts.unchanged) }}</template></el-table-column>
        <el-table-column label="Failed" width="90" align="right"><template #default="{ row }: { row: Row }"><span :class="{ bad: row.counts.failed }">{{ row.counts.failed ? '✗ ' : '' }}{{ number(row.counts.failed) }}</span></template></el-table-column>
        <el-table-column label="Left out" width="90" align="right"><template #default="{ row }: { row: Row }"><span :class="{ warn: leftOut(row as Rollout) }">{{ leftOut(row as Rollout) ? '! ' : '' }}{{ number(leftOut(row as Rollout)) }}</span></template></el-table-column>
        <el-table-column label="State" width="120"><template #default="{ row }: { row: Row }"><Mark :look="look(row as Rollout)" :word="word(row as Rollout)" /></template></el-table-column>
      </el-table>
      <el-pagination v-if="rollouts.data.value.total > listShown" v-model:current-page="listPage" class="pages" layout="prev, pager, next, total" :total="rollouts.data.value.total" :page-size="listShown" />
    </div>
  </template>
  <AskWhy v-model="asking" :title="texts[asked].title" :text="texts[asked].text()" :verb="texts[asked].verb" :same="same" :busy="busy" @done="pull" />
  <FreezeBox v-model="freezing" />
  <BackOut v-if="r" v-model="backing" :id="r.id" />
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  align-items: center;
  gap: 20px;
}
.levers {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
}
.levers .el-button + .el-button {
  margin-left: 0;
}
.says {
  font-size: 16px;
}
.held,
.hosts {
  padding: 12px 14px;
  margin: 12px 0;
}
.cause + .cause {
  margin-top: 8px;
}
.filters {
  margin-bottom: 8px;
}
.aside {
  margin-left: 12px;
}
</style>
