<script setup lang="ts">
import { computed, ref } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { client, told, type HostDetail, type Source } from '../api'
import { useNow } from '../now'
import AskWhy from '../parts/AskWhy.vue'
import Asked from '../parts/Asked.vue'
import Between from '../parts/Between.vue'
import Diff from '../parts/Diff.vue'
import Findings from '../parts/Findings.vue'
import Mark from '../parts/Mark.vue'
import Moment from '../parts/Moment.vue'
import Same from '../parts/Same.vue'
import Trouble from '../parts/Trouble.vue'
import WhyNot from '../parts/WhyNot.vue'
import { useMayChange } from '../role'
import { accessWord, ago, count, exact, fateWords, progressLook, severityLook, short, shortKey, stateLook } from '../words'

const props = defineProps<{ name: string }>()
const now = useNow()
const host = useQuery({
  queryKey: computed(() => ['host', props.name]),
  queryFn: () => told(client.GET('/api/hosts/{name}', { params: { path: { name: props.name } } })),
})
const d = computed(() => host.data.value)

const history = useQuery({
  queryKey: computed(() => ['host', props.name, 'history']),
  queryFn: () => told(client.GET('/api/hosts/{name}/history', { params: { path: { name: props.name }, query: { per_page: 20 } } })),
})
const moments = computed(() => history.data.value?.items ?? [])

const mayChange = useMayChange()
const healing = ref(false)
const error = ref<Error | null>(null)

const seating = ref(false)

async function seat(call: () => Promise<unknown>) {
  seating.value = true
  error.value = null
  try {
    await call()
    await host.refetch()
  } catch (e) {
    error.value = e as Error
  } finally {
    seating.value = false
  }
}

const seatless = computed(() => d.value?.drift.some((f) => f.class === 'no-seat') ?? false)
const takeSeat = () => seat(() => told(client.POST('/api/seats', { body: { host: props.name } })))
const releaseSeat = (account: string) => seat(() => told(client.DELETE('/api/seats/{host}/{account}', { params: { path: { host: props.name, account } } })))

// Files that stop the package manager altogether.
const stops = computed(() => [...new Set(d.value?.drift.filter((f) => f.class === 'refused' && f.file).map((f) => f.file) ?? [])])

async function heal(aside: boolean) {
  healing.value = true
  error.value = null
  try {
    await told(client.POST('/api/hosts/{name}/heal', { params: { path: { name: props.name } }, body: { set_aside: aside } }))
  } catch (e) {
    error.value = e as Error
  } finally {
    healing.value = false
  }
}

// Accepting what the policy says nothing of, as it stands.
const asking = ref(false)
const accepting = ref(false)
async function accept(why: string) {
  accepting.value = true
  error.value = null
  try {
    const body = { because: why, document: d.value?.document }
    await told(client.POST('/api/hosts/{name}/accept', { params: { path: { name: props.name } }, body }))
    await host.refetch()
  } catch (e) {
    error.value = e as Error
  } finally {
    accepting.value = asking.value = false
  }
}
const acceptable = computed(() => d.value?.drift.some((f) => f.beside) ?? false)

function days(iso: string | null): string {
  if (!iso) return 'for ever'
  const n = Math.floor((Date.parse(iso) - now.value) / 86_400_000)
  return n < 0 ? 'EXPIRED' : count(n, 'day', 'days')
}

// apt checks the metadata, which holds the sums of the packages; the others the packages.
const checked = (s: Source) => (s.family === 'deb' ? s.checks.metadata : s.checks.packages)

// What the policy makes of each source, and where it says so.
type Reason = NonNullable<typeof d.value>["reasons"][number]
type Fate = NonNullable<typeof d.value>['fates'][number]
const fate = (i: number) => d.value!.fates[i]
const placesOf = (f: Fate) => {
  const reasons = d.value!.reasons.filter((r) => f.repositories.includes(r.repository) && !r.left_out)
  return [...new Set(reasons.flatMap((r) => r.places.map((p) => `${p.file}:${p.line}`)))]
}

// What touches trust comes first.
const weight = (touches: string[] | null) => ['trust', 'transport', 'program'].findIndex((t) => touches?.includes(t)) >>> 0
type Setting = NonNullable<NonNullable<typeof d.value>["settings"]>[number]
const weakens = (s: Setting) => d.value?.drift.some((f) => f.class === 'setting-weakened' && f.have === `${s.name} ${s.value}`) ?? false
const settings = computed(() => [...(d.value?.settings ?? [])].sort((a, b) => weight(a.touches) - weight(b.touches)))

// Keys that the package manager uses, and those that it passes over where they were meant to
// be used; one that stands where nothing names it is only counted.
const notNamed = 'no source that is on names it'
const believed = computed(() => (d.value?.keys ?? []).filter((k) => k.used || !k.unused_because))
const passedOver = computed(() => (d.value?.keys ?? []).filter((k) => !k.used && k.unused_because && k.unused_because !== notNamed))
const idle = computed(() => new Set((d.value?.keys ?? []).filter((k) => !k.used && k.unused_because === notNamed).map((k) => k.fingerprint)).size)

const cpu = computed(() => {
  const t = d.value?.traits
  return t ? t.arch + (t.cpu.level ? `, level ${t.cpu.level}` : '') : ''
})

// What stands in a row of a table, so that its columns are checked against the service's answers.
type SourceRow = HostDetail['sources'][number]
type SettingRow = (typeof settings.value)[number]
type KeyRow = (typeof believed.value)[number]
type ReasonRow = HostDetail['reasons'][number]
</script>

<template>
  <Asked :of="[host]" />
  <template v-if="d">
    <div class="head">
      <div>
        <h1>{{ d.name }} <Mark :look="stateLook[d.state]" :word="d.state" /></h1>
        <div>{{ d.detail }}</div>
        <div class="soft facts">
          <span>{{ d.os }}</span><span>{{ cpu }}</span>
          <span v-for="(v, k) in d.traits?.tools" :key="k">{{ k }} {{ v }}</span>
          <span>{{ d.revision ? `revision ${d.revision}` : 'no revision yet' }}<template v-if="d.carried">, carried {{ ago(d.carried, now) }}</template></span>
          <span v-if="d.base" :title="exact(d.base.at)">everything else compared with its state of {{ ago(d.base.at, now) }}<template v-if="d.base.by">, accepted by {{ d.base.by }}: {{ d.base.why }}</template></span>
          <span v-else-if="d.revision" class="warn">its keys, settings, pins and holds are held against nothing yet</span>
          <span :title="exact(d.last_seen)">seen {{ ago(d.last_seen, now) }}</span>
          <span v-for="(v, k) in d.labels" :key="k" class="label">{{ k }}={{ v }}</span>
          <router-link v-if="d.document" :to="{ name: 'fleet', query: { like: d.name } }">hosts configured exactly so</router-link>
        </div>
      </div>
      <template v-if="mayChange">
        <el-button v-if="seatless" type="primary" size="large" :loading="seating" @click="takeSeat">Take a seat</el-button>
        <span v-else-if="d.diff || stops.length || acceptable" class="buttons">
          <el-button v-if="acceptable" size="large" :loading="accepting" @click="asking = true">Accept as it stands</el-button>
          <el-button v-if="stops.length" size="large" :loading="healing || d.state === 'changing'" :title="stops.join(', ')" @click="heal(true)">Heal, and set aside what stops it</el-button>
          <el-button v-if="d.diff" type="primary" size="large" :loading="healing || d.state === 'changing'" @click="heal(false)">Heal this host</el-button>
        </span>
      </template>
    </div>
    <Trouble class="told" :error="error" />
    <Same v-if="mayChange && (seatless || d.diff || stops.length)" :command="seatless ? `lantern seat take ${short(d.name)}` : `lantern heal ${short(d.name)}${d.diff ? '' : ' --set-aside'}`" />

    <template v-if="d.drift.length">
      <h2>{{ count(d.drift.length, 'finding', 'findings') }}</h2>
      <Findings :findings="d.drift" :may-take="mayChange" />
    </template>
    <p v-else-if="d.revision && d.state === 'steady'" class="well card good"><b>= As the policy says.</b> <span class="soft">Nothing on this host differs from its sheet.</span></p>
    <p v-else-if="d.revision" class="well card warn"><b>? Not known now.</b> <span class="soft">Nothing differed from its sheet when it was last surveyed, {{ ago(d.last_seen, now) }}; since then: {{ d.state }}.</span></p>
    <p v-for="i in d.impossible" :key="i" class="bad">!! cannot be healed: {{ i }}</p>

    <template v-if="d.waived_findings?.length">
      <h2>Waived</h2>
      <div class="card pad channels">
        <div v-for="w in d.waived_findings" :key="w.waiver + w.class + w.file">
          <b>~ {{ w.message }}</b> <span class="soft mono">{{ w.file }}</span>
          <span class="soft"> by {{ w.by }} until <Moment :at="w.ends" />: {{ w.because }}</span>
        </div>
      </div>
    </template>

    <AskWhy
      v-model="asking"
      :title="`Accept ${d.name} as it stands`"
      text="Keys, settings, pins, holds and entries that the policy says nothing of are right as they stand now. What the policy does say, and checks that are taken away, stay findings."
      verb="Accept it"
      :same="`lantern host accept ${short(d.name)} --because … --yes`"
      :busy="accepting"
      @done="accept"
    />

    <template v-if="d.channels.length || d.seats_held.length">
      <h2>Channels and seats</h2>
      <div class="card pad channels">
        <div v-for="c in d.channels" :key="c.channel">
          <b>{{ c.channel }}</b> follows <b>{{ c.choice }}</b><template v-if="c.pinned"> and stays at {{ c.pinned }}</template>
          <span class="soft">
            by {{ c.group }}<template v-if="c.contract">, opened by the contract {{ c.contract }}</template>
            <template v-else-if="c.decision">, open by decision of {{ c.decision.author }} until {{ c.decision.review }}: {{ c.decision.because }}</template>
            <template v-else-if="c.open">, open, and nobody has said that this is meant</template>
          </span>
        </div>
        <div v-for="s in d.seats_held" :key="s.account + s.contract">
          <Mark :look="s.renewal || s.leaving ? progressLook.failed : progressLook.done" :word="s.leaving ? 'seat leaving' : 'seat'" /> <b>{{ s.contract }}</b>
          <span class="soft"> taken {{ ago(s.taken, now) }} by {{ s.by }}: {{ s.why }}<template v-if="s.expires"> · {{ accessWord[s.kind] }} until <Moment :at="s.expires" /></template></span>
          <span v-if="s.renewal" class="bad"> {{ s.renewal }}</span>
          <el-popconfirm v-if="mayChange && !s.leaving" title="Give the seat back? What it opened is closed." confirm-button-text="Give it back" cancel-button-text="Keep it" width="260" @confirm="releaseSeat(s.account)"><template #reference><el-button text size="small" :loading="seating" :title="`The same on the command line: lantern seat release ${short(d.name)}`">Release</el-button></template></el-popconfirm>
        </div>
      </div>
    </template>

    <template v-if="d.diff">
      <h2>Healing would change</h2>
      <Diff :text="d.diff" />
    </template>

    <template v-if="d.report && d.report.report">
      <h2>Last change</h2>
      <div class="card last">
        <Mark :look="progressLook[d.report.state]" :word="d.report.state" />
        <span>rollout {{ d.report.report.rollout }}, revision {{ d.report.report.revision }}, {{ ago(d.report.at, now) }}</span>
        <span v-if="d.report.report.message" class="bad">at {{ d.report.report.step }}: {{ d.report.report.message }}<template v-if="d.report.report.undone"> (put back as it was)</template></span>
        <div class="outcomes">
          <div v-for="(s, i) in d.report.report.sources" :key="i"><Mark :look="s.ok ? progressLook.done : progressLook.failed" :word="s.ok ? 'refreshed' : 'failed'" /> <span class="mono">{{ s.url }} {{ s.suite }}</span> <span class="soft">{{ s.message }}</span></div>
        </div>
      </div>
    </template>

    <template v-if="moments.length">
      <h2>What happened</h2>
      <div class="card pad channels">
        <div v-for="m in moments" :key="m.number">
          <span class="soft" :title="exact(m.at)">{{ ago(m.at, now) }}</span>{{ ' ' }}
          <b>{{ m.what }}</b> <span class="soft">by {{ m.by.startsWith('host:') ? 'the host' : m.by.replace('operator:', '') }}</span>
          <template v-if="m.revision"> revision {{ m.revision }} was carried</template>
          <template v-if="m.went"> {{ count(m.went, 'finding went', 'findings went') }}</template>
          <template v-if="m.why"> {{ m.why }}</template>
          <div v-for="(c, i) in m.came ?? []" :key="i"><Mark :look="severityLook[c.severity]" :word="c.severity" /> <span class="mono">{{ c.file }}</span> {{ c.class }}</div>
        </div>
      </div>
      <Between :name="props.name" :moments="moments" class="apart" />
    </template>

    <template v-if="d.problems.length">
      <h2>Problems</h2>
      <div class="card pad"><div v-for="(p, i) in d.problems" :key="i" :class="p.fatal ? 'bad' : 'warn'">{{ p.fatal ? '!!' : p.not_read ? '?' : '!' }} <span class="mono">{{ p.file || 'several files' }}<template v-if="p.line">:{{ p.line }}</template></span> {{ p.message }}</div></div>
    </template>

    <h2>Sources</h2>
    <div class="card">
      <el-table :data="d.sources" empty-text="No source stands on this host">
        <el-table-column label="State" width="186">
          <template #default="{ row }: { row: SourceRow }"><Mark :look="row.enabled ? progressLook.done : progressLook.waiting" :word="row.enabled ? 'on' : `off, by ${row.disabled_by}`" /></template>
        </el-table-column>
        <el-table-column label="Where it comes from" min-width="420">
          <template #default="{ row }: { row: SourceRow }"><span class="mono" :class="{ soft: !row.enabled }"><template v-if="row.id">[{{ row.id }}] </template>{{ row.effective_urls.join(' ') }} <b>{{ row.effective_suites.join(' ') }}</b> {{ row.components.join(' ') }}</span></template>
        </el-table-column>
        <el-table-column v-if="d.fates.length" label="To the policy" min-width="300">
          <template #default="{ $index }">
            <div :class="{ warn: fate($index).then !== 'stay' || ['unlisted', 'licensed'].includes(fate($index).stands_as), soft: ['idle', 'foreign'].includes(fate($index).stands_as) }">{{ fateWords(fate($index)) }}</div>
            <span class="mono soft places">{{ placesOf(fate($index)).join('  ') }}</span>
          </template>
        </el-table-column>
        <el-table-column label="File" min-width="200">
          <template #default="{ row }: { row: SourceRow }"><span class="mono">{{ row.file.replace(/^\/etc\/(apt|yum\.repos\.d|zypp\/repos\.d)\//, '') }}:{{ row.line }}</span></template>
        </el-table-column>
        <el-table-column label="Signature" width="120">
          <template #default="{ row }: { row: SourceRow }"><span :class="checked(row as Source) === 'required' ? '' : 'bad'">{{ checked(row as Source) === 'required' ? 'required' : '!! ' + checked(row as Source) }}</span></template>
        </el-table-column>
      </el-table>
    </div>

    <template v-if="d.settings.length || d.pins.length || d.holds.length || d.deciding.length">
      <h2>Settings <span class="soft small">that differ from the package manager's own and decide what comes from where</span></h2>
      <div class="card">
        <el-table v-if="d.settings.length" :data="settings">
          <el-table-column label="Name" min-width="260"><template #default="{ row }: { row: SettingRow }"><span class="mono">{{ row.name }}</span></template></el-table-column>
          <el-table-column label="Value" min-width="240"><template #default="{ row }: { row: SettingRow }"><span class="mono" :class="{ bad: weakens(row as Setting) }">{{ row.value }}</span></template></el-table-column>
          <el-table-column label="Touches" width="150"><template #default="{ row }: { row: SettingRow }">{{ row.touches.join(', ') }}</template></el-table-column>
          <el-table-column label="Where" min-width="220"><template #default="{ row }: { row: SettingRow }"><span class="mono">{{ row.file }}:{{ row.line }}</span></template></el-table-column>
        </el-table>
        <div v-for="(p, i) in d.pins" :key="`p${i}`" class="row"><b :class="{ warn: p.priority >= 1000 || !p.valid }">pin {{ p.priority }}</b> <span class="mono">{{ (p.packages ?? []).join(' ') }}</span> from <span class="mono">{{ p.pin }}</span> <span class="soft mono">{{ p.file }}:{{ p.line }}</span></div>
        <div v-for="(h, i) in d.holds" :key="`h${i}`" class="row"><b>{{ h.kind }}</b> <span class="mono">{{ h.what }}</span> <span class="soft">{{ h.source ? `of ${h.source}` : 'of all sources' }}</span> <span class="soft mono">{{ h.file }}:{{ h.line }}</span></div>
        <div v-for="(b, i) in d.deciding.filter(b => !b.unused)" :key="`b${i}`" class="row"><b>{{ b.touches.join(', ') }}</b> <span class="mono">{{ b.lines.join('; ') }}</span> <span class="soft mono">{{ b.file }}</span></div>
      </div>
    </template>

    <h2>Keys <span class="soft small">{{ believed.length }} believed</span></h2>
    <div class="card">
      <div v-for="(k, i) in passedOver" :key="`k${i}`" class="row warn">! passed over: <span class="mono">{{ k.where }}</span> {{ k.unused_because }}</div>
      <el-table :data="believed" empty-text="This host believes no key">
        <el-table-column label="Key" width="190"><template #default="{ row }: { row: KeyRow }"><span class="mono" :title="row.fingerprint">{{ shortKey(row.fingerprint) }}</span></template></el-table-column>
        <el-table-column label="Whose" min-width="260"><template #default="{ row }: { row: KeyRow }">{{ row.user_ids.join(', ') }}</template></el-table-column>
        <el-table-column label="Left" width="110"><template #default="{ row }: { row: KeyRow }"><span :class="{ bad: row.revoked || days(row.expires) === 'EXPIRED' }">{{ row.revoked ? 'REVOKED' : days(row.expires) }}</span></template></el-table-column>
        <el-table-column label="Trusted for" width="170"><template #default="{ row }: { row: KeyRow }">{{ row.scope === 'any' ? 'everything' : 'sources that name it' }}</template></el-table-column>
        <el-table-column label="Where" min-width="240"><template #default="{ row }: { row: KeyRow }"><span class="mono">{{ row.where }}</span></template></el-table-column>
      </el-table>
      <div v-if="idle" class="row soft">{{ idle }} more stand where no source that is on names them</div>
    </div>

    <template v-if="d.reasons.length">
      <h2>Why these repositories</h2>
      <div class="card">
        <el-table :data="d.reasons">
          <el-table-column prop="repository" label="Repository" width="190" />
          <el-table-column prop="because" label="Because" min-width="300" />
          <el-table-column label="In the policy" min-width="260"><template #default="{ row }: { row: ReasonRow }"><span class="mono">{{ (row as Reason).places.map((p) => `${p.file}:${p.line}`).join('  ') }}</span></template></el-table-column>
        </el-table>
      </div>
    </template>
    <WhyNot :key="name" :name="name" />
  </template>
</template>

<style scoped>
.apart {
  margin-top: 10px;
}
.head {
  display: flex;
  justify-content: space-between;
  align-items: flex-start;
  flex-wrap: wrap;
  gap: 12px 24px;
}
.head > :first-child {
  flex: 1 1 480px;
  min-width: min(100%, 480px);
  overflow-wrap: anywhere;
}
.channels,
.pad {
  overflow-wrap: anywhere;
}
h1 {
  display: flex;
  flex-wrap: wrap;
  gap: 16px;
  align-items: baseline;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
  font-size: 14px;
  margin-top: 4px;
}
.label {
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 0 6px;
}
.well,
.pad {
  padding: 12px 14px;
}
.last {
  padding: 10px 14px;
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
}
.channels > div + div {
  margin-top: 6px;
}
.row {
  padding: 6px 14px;
}
.places {
  font-size: 12px;
}
.small {
  font-size: 13px;
  font-weight: normal;
}
.outcomes {
  flex-basis: 100%;
}
</style>
