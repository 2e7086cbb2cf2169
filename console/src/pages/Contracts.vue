<script setup lang="ts">
// Contracts and seats: first what needs a decision, then what there is.
import { watchDebounced } from '@vueuse/core'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useAddress } from '../address'
import { client, told, type Seat } from '../api'
import { csv, every, keep } from '../csv'
import { useNow } from '../now'
import Accounts from '../parts/Accounts.vue'
import Asked from '../parts/Asked.vue'
import Empty from '../parts/Empty.vue'
import Mark from '../parts/Mark.vue'
import Moment from '../parts/Moment.vue'
import Trouble from '../parts/Trouble.vue'
import YearAhead from '../parts/YearAhead.vue'
import { useMayChange } from '../role'
import { accessWord, ago, contractLook, count, money, number, progressLook, short, until } from '../words'

const Usage = defineAsyncComponent(() => import('../parts/Usage.vue')) // charts are large, and wanted here alone

const now = useNow()
const { text, page, turn, turned, q, word, field, go } = useAddress()
const sort = word('sort', 'host')
const perPage = 50
const withVariants = word('variants')
const variants = computed({ get: () => withVariants.value === 'yes', set: (on: boolean) => (withVariants.value = on ? 'yes' : '') })

const accounts = useQuery({ queryKey: ['accounts'], queryFn: () => told(client.GET('/api/accounts')) })
// The filters of contracts stand in the address beside those of seats.
const find = field('find')
watchDebounced(find, (v) => go({ find: v }), { debounce: 200 })
const account = word('account')
const state = word('state')
const order = word('order', 'end')
const listed = turn('list')
watch([() => text('find'), account, state], () => { if (listed.value > 1) listed.value = 1 })
const contracts = useQuery({
  queryKey: computed(() => ['contracts', text('find'), account.value, state.value, order.value, listed.value]),
  queryFn: () =>
    told(client.GET('/api/contracts', {
      params: {
        query: {
          q: text('find') || undefined, account: account.value || undefined, state: state.value ? [state.value as 'good'] : undefined,
          sort: order.value as 'end', page: listed.value, per_page: perPage,
        },
      },
    })),
  placeholderData: keepPreviousData,
})
const crowded = useQuery({ queryKey: ['contracts', 'over'], queryFn: () => told(client.GET('/api/contracts', { params: { query: { state: ['over'], per_page: 1000 } } })) })
const outlook = useQuery({ queryKey: ['outlook'], queryFn: () => told(client.GET('/api/outlook')) })
const seats = useQuery({
  queryKey: computed(() => ['seats', text('q'), sort.value, page.value]),
  queryFn: () => told(client.GET('/api/seats', { params: { query: { q: text('q'), sort: sort.value as 'host', page: page.value, per_page: perPage } } })),
  placeholderData: keepPreviousData,
})
const channels = useQuery({
  queryKey: computed(() => ['channels', variants.value]),
  queryFn: () => told(client.GET('/api/channels', { params: { query: { variants: variants.value, per_page: 1000 } } })),
  placeholderData: keepPreviousData,
})

const ahead = computed(() => outlook.data.value)
const away = computed(() => accounts.data.value?.items.filter((a) => a.trouble) ?? [])
const over = computed(() => crowded.data.value?.items ?? [])
const falling = computed(() => new Set(outlook.data.value?.ending.flatMap((e) => e.falling) ?? []).size)
const lacking = computed(() => (ahead.value?.forecast ?? []).map((f) => ({ account: f.account, short: f.steps[0]?.seats_short ?? 0 })).filter((f) => f.short))
const needing = computed(() => (ahead.value?.forecast ?? []).reduce((n, f) => n + (f.steps[0]?.seats_needed ?? 0), 0))
const pressing = computed(() => away.value.length + over.value.length + lacking.value.length + (outlook.data.value?.ending.filter((e) => e.falling.length).length ?? 0))

const rows = computed(() =>
  (channels.data.value?.items ?? []).flatMap((c) => c.choices.map((x, i) => ({ ...x, channel: i === 0 ? c.name : '', key: `${c.name} ${x.name} ${x.variant}` }))),
)

const error = ref<Error | null>(null)
const busy = ref('')
const mayChange = useMayChange()

async function release(s: Seat) {
  busy.value = s.host + s.account
  error.value = null
  try {
    await told(client.DELETE('/api/seats/{host}/{account}', { params: { path: { host: s.host, account: s.account } } }))
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = ''
  }
}

async function download() {
  error.value = null
  try {
    await save()
  } catch (e) {
    error.value = e as Error
  }
}

async function save() {
  const all = await every((n) => told(client.GET('/api/seats', { params: { query: { page: n, per_page: 1000 } } })))
  keep('seats.csv', csv(['host', 'account', 'contract', 'taken', 'by', 'automatic', 'needed', 'kind', 'expires', 'renewal', 'why'], all))
}

// What stands in a row of a table, so that its columns are checked against the service's answers.
type ContractRow = NonNullable<typeof contracts.data.value>['items'][number]
type SeatRow = NonNullable<typeof seats.data.value>['items'][number]
type ChannelRow = (typeof rows.value)[number]
</script>

<template>
  <div class="head">
    <h1 v-if="crowded.data.value && outlook.data.value && accounts.data.value">
      <template v-if="!accounts.data.value.items.length">No account at a vendor's desk yet</template>
      <template v-else-if="pressing === 0 && !needing">No host {{ ahead?.unknown ? 'is known to need' : 'needs' }} a seat</template>
      <span v-else-if="pressing === 0 && !ahead?.unknown" class="good">No host loses its access within 90 days</span>
      <template v-else-if="pressing === 0">No host loses its access within 90 days, <span class="warn">as far as is known</span></template>
      <template v-else-if="falling"><span class="warn">{{ count(falling, 'host', 'hosts') }} would lose access</span> within 90 days</template>
      <span v-else class="warn">{{ count(pressing, 'thing needs', 'things need') }} a look</span>
    </h1>
  </div>
  <Trouble class="told" :error="error" />
  <Asked :of="[accounts, contracts, crowded, outlook]" />
  <Empty v-if="accounts.data.value && !accounts.data.value.items.length">Give the service the organisation's account, <router-link :to="{ hash: '#accounts' }">further below</router-link>.</Empty>

  <p v-if="ahead?.unknown && accounts.data.value?.items.length" class="soft">
    What {{ ahead.unknown === 1 ? '1 host needs' : `${number(ahead.unknown)} hosts need` }} is not known: <router-link :to="{ name: 'fleet' }">no revision was carried to them yet</router-link>, or they cannot be read.
  </p>

  <ul v-if="ahead" class="pressing">
    <li v-for="a in away" :key="a.name" class="card">
      <Mark :look="progressLook.failed" :word="`desk of ${a.name}`" />
      <span><template v-if="a.since">has not answered since <Moment :at="a.since" /> ({{ ago(a.since, now) }}): </template>{{ a.trouble.replace(/^the desk does not answer: /, '') }}. <b>Nothing changes on any host; access is renewed when it answers.</b></span>
    </li>
    <li v-for="c in over" :key="c.number" class="card">
      <Mark :look="progressLook.failed" :word="c.number" />
      <span><b>{{ count(c.seats_over, 'seat', 'seats') }} too many</b> {{ c.seats_over === 1 ? 'is' : 'are' }} taken: the contract has {{ c.seats }}. Buy more, or release some below; the vendor serves the latest no more when their access ends.</span>
    </li>
    <li v-for="f in lacking" :key="f.account" class="card">
      <Mark :look="progressLook.failed" :word="f.account" />
      <span>Of the hosts that need a seat there is <b>none for {{ number(f.short) }}</b>, however they are seated. Buy more, or let a group follow the open choice.</span>
    </li>
    <li v-for="e in ahead.ending" :key="e.held.number" class="card">
      <Mark :look="e.held.withdrawn || e.days < 0 ? progressLook.failed : contractLook.ending" :word="e.held.number" />
      <span>
        <template v-if="e.held.withdrawn">was withdrawn</template>
        <template v-else>{{ e.held.evaluation ? 'is an evaluation and ends' : 'ends' }} on <b><Moment :at="e.held.end" day /></b>, {{ until(e.held.end, now) === 'over' ? 'which is over' : `in ${until(e.held.end, now)}` }}</template>.
        <template v-if="e.falling.length"><b class="bad">{{ count(e.falling.length, 'host falls', 'hosts fall') }} out:</b> <template v-for="(h, i) in e.falling.slice(0, 12)" :key="h">{{ i ? ', ' : ' ' }}<router-link :to="{ name: 'host', params: { name: h } }">{{ short(h) }}</router-link></template><template v-if="e.falling.length > 12"> and {{ e.falling.length - 12 }} more</template>. Renew it, or let the group follow the open choice.</template>
        <template v-else-if="!e.moving.length">No host sits in it.</template>
        <template v-if="e.moving.length"> Another contract takes {{ e.moving.map((m) => `${short(m.host)} (${m.moves_to})`).join(', ') }}.</template>
      </span>
    </li>
    <li v-for="x in ahead.twice" :key="x.host + x.account" class="card"><Mark :look="contractLook.ending" word="paid twice" /><span><router-link :to="{ name: 'host', params: { name: x.host } }">{{ short(x.host) }}</router-link> is covered by {{ x.paid_by.join(' and ') }}; the first could be given back.</span></li>
    <li v-for="x in ahead.silent_seats" :key="'s' + x.host + x.account" class="card"><Mark :look="contractLook.ending" word="silent host" /><span><router-link :to="{ name: 'host', params: { name: x.host } }">{{ short(x.host) }}</router-link> has a seat in {{ x.contract }} and was last seen {{ ago(x.last_seen, now) }}.</span></li>
    <li v-for="x in ahead.idle_seats" :key="'i' + x.host + x.account" class="card"><Mark :look="contractLook['to-come']" word="not needed" /><span><router-link :to="{ name: 'host', params: { name: x.host } }">{{ short(x.host) }}</router-link> has a seat in {{ x.contract }} that its sheet does not need.</span></li>
  </ul>

  <div class="row">
    <h2 id="contracts">Contracts</h2>
    <span class="tools">
      <el-input v-model="find" size="small" placeholder="Number or title" clearable aria-label="Filter contracts" style="width: 170px" />
      <el-select v-if="(accounts.data.value?.items.length ?? 0) > 1 || account" v-model="account" :empty-values="[null, undefined]" size="small" style="width: 130px" aria-label="Account">
        <el-option value="" label="all accounts" /><el-option v-for="a in accounts.data.value?.items ?? []" :key="a.name" :value="a.name" :label="a.name" />
      </el-select>
      <el-select v-model="state" :empty-values="[null, undefined]" size="small" style="width: 120px" aria-label="State of contracts">
        <el-option value="" label="all states" /><el-option v-for="(_, s) in contractLook" :key="s" :value="s" :label="s" />
      </el-select>
      <el-select v-model="order" size="small" style="width: 120px" aria-label="Order of contracts"><el-option value="end" label="ends first" /><el-option value="account" label="by account" /><el-option value="-used" label="most used" /></el-select>
      <el-button size="small" tag="a" href="/api/calendar" download="patient-lantern.ics" title="The same on the command line: lantern date list --format ics">Save dates as a calendar</el-button></span>
  </div>
  <div class="card">
    <el-table :data="contracts.data.value?.items ?? []" :row-key="(c: ContractRow) => `${c.account} ${c.number}`" :empty-text="text('find') || account || state ? 'No contract of that kind' : 'No contract'">
      <el-table-column label="Contract" min-width="290"><template #default="{ row }: { row: ContractRow }"><b>{{ row.number }}</b><br /><span class="soft">{{ row.title }}</span></template></el-table-column>
      <el-table-column label="State" width="120"><template #default="{ row }: { row: ContractRow }"><Mark :look="contractLook[row.state]" :word="row.state" /><div v-if="row.evaluation" class="soft">evaluation</div></template></el-table-column>
      <el-table-column label="Seats" width="210">
        <template #default="{ row }: { row: ContractRow }">
          <template v-if="row.cover === 'organisation'">{{ row.seats_used }}, no limit</template>
          <template v-else>{{ row.seats_used }} of {{ row.seats }} used<span v-if="row.seats_over" class="bad">, {{ row.seats_over }} too many</span><span v-else class="soft">, {{ row.seats_free }} free</span><el-progress :aria-label="`Seats of ${row.number}`" :percentage="Math.min(100, Math.round((100 * row.seats_used) / Math.max(1, row.seats)))" :stroke-width="4" :show-text="false" :status="row.seats_free === 0 ? 'exception' : undefined" /></template>
        </template>
      </el-table-column>
      <el-table-column label="Ends" width="180"><template #default="{ row }: { row: ContractRow }"><Moment :at="row.end" day /><span class="soft">, {{ until(row.end, now) }}</span></template></el-table-column>
      <el-table-column label="Seat per year" width="140" align="right"><template #default="{ row }: { row: ContractRow }">{{ row.price ? money(row.price, row.currency) : row.evaluation ? 'free' : 'not told' }}</template></el-table-column>
      <el-table-column label="Opens" min-width="170"><template #default="{ row }: { row: ContractRow }">{{ row.opens.map((o: { name: string }) => o.name).join(', ') }}</template></el-table-column>
    </el-table>
  </div>
  <el-pagination v-if="(contracts.data.value?.total ?? 0) > perPage" v-model:current-page="listed" class="pages" layout="prev, pager, next, total" :total="contracts.data.value?.total" :page-size="perPage" />

  <YearAhead v-if="ahead?.forecast.length" :forecast="ahead.forecast" :unknown="ahead.unknown" />

  <template v-if="outlook.data.value?.usage.length">
    <h2>Seats used</h2>
    <div class="card chart"><Usage :usage="outlook.data.value.usage" /></div>
  </template>

  <div class="row">
    <h2 id="seats">Seats</h2>
    <span class="tools">
      <el-input v-model="q" size="small" placeholder="Host or contract" clearable aria-label="Filter seats" style="width: 200px" />
      <el-select v-model="sort" size="small" style="width: 150px" aria-label="Order of seats">
        <el-option value="host" label="by host" /><el-option value="contract" label="by contract" /><el-option value="-taken" label="newest first" /><el-option value="expires" label="ends first" />
      </el-select>
      <el-button size="small" @click="download">Save as CSV</el-button>
    </span>
  </div>
  <div class="card">
    <el-table :data="seats.data.value?.items ?? []" empty-text="No seat is taken. A rollout takes those that the policy wants.">
      <el-table-column label="Host" width="200"><template #default="{ row }: { row: SeatRow }"><router-link :to="{ name: 'host', params: { name: row.host } }">{{ row.host }}</router-link></template></el-table-column>
      <el-table-column prop="contract" label="Contract" width="140" />
      <el-table-column label="Access" min-width="220">
        <template #default="{ row }: { row: SeatRow }">
          <span v-if="row.leaving" class="warn">→ leaving, the desk is away</span>
          <span v-else-if="row.renewal" class="bad">✗ {{ row.renewal }}</span>
          <span v-else-if="!row.expires" class="soft">· not fetched yet</span>
          <span v-else :class="until(row.expires, now) === 'over' ? 'bad' : 'good'">{{ until(row.expires, now) === 'over' ? '✗' : '=' }} {{ accessWord[row.kind] }}, {{ until(row.expires, now) === 'over' ? 'ended' : `${until(row.expires, now)} left` }}</span>
        </template>
      </el-table-column>
      <el-table-column label="Taken" width="200"><template #default="{ row }: { row: SeatRow }">{{ ago(row.taken, now) }} <span class="soft">by {{ row.by }}</span></template></el-table-column>
      <el-table-column prop="why" label="Why this contract" min-width="300" show-overflow-tooltip />
      <el-table-column label="Action" width="100" align="right"><template #default="{ row }: { row: SeatRow }"><el-popconfirm v-if="mayChange && !row.leaving" :title="`Give the seat of ${short(row.host)} back? What it opened is closed.`" confirm-button-text="Give it back" cancel-button-text="Keep it" width="260" @confirm="release(row as Seat)"><template #reference><el-button text size="small" :loading="busy === row.host + row.account" :title="`The same on the command line: lantern seat release ${short(row.host)}`">Release</el-button></template></el-popconfirm></template></el-table-column>
    </el-table>
  </div>
  <el-pagination v-if="(seats.data.value?.total ?? 0) > perPage" v-model:current-page="turned" class="pages" layout="prev, pager, next, total" :total="seats.data.value?.total" :page-size="perPage" />

  <Accounts :may-change="mayChange" />

  <div class="row">
    <h2>Channels<span v-if="channels.data.value?.revision" class="soft"> in revision {{ channels.data.value.revision }}</span></h2>
    <span class="tools"><el-checkbox v-model="variants" size="small" label="debug and source variants too" /></span>
  </div>
  <p v-if="channels.data.value?.items.length && channels.data.value.unknown" class="warn"><b>? {{ count(channels.data.value.unknown, 'host has', 'hosts have') }}</b> no revision yet, so none of them is counted.</p>
  <div class="card">
    <el-table :data="rows" row-key="key" empty-text="No channel is published yet">
      <el-table-column label="Channel" width="120"><template #default="{ row }: { row: ChannelRow }"><b>{{ row.channel }}</b></template></el-table-column>
      <el-table-column label="Choice" width="150"><template #default="{ row }: { row: ChannelRow }">{{ row.name }}<span v-if="row.variant" class="warn"> {{ row.variant }}</span></template></el-table-column>
      <el-table-column label="Versions" width="130"><template #default="{ row }: { row: ChannelRow }">{{ row.pinned ? `stays at ${row.pinned}` : 'rolling' }}</template></el-table-column>
      <el-table-column prop="support" label="Support" width="120" />
      <el-table-column label="Opened by" min-width="200"><template #default="{ row }: { row: ChannelRow }"><span v-if="!row.licensed" class="soft">open to all</span><span v-else-if="row.opened_by.length">{{ row.opened_by.join(', ') }}</span><span v-else class="bad">✗ no contract of {{ row.contract }}</span></template></el-table-column>
      <el-table-column prop="hosts" label="Hosts" width="80" align="right" />
      <el-table-column label="Followed by" min-width="330">
        <template #default="{ row }: { row: ChannelRow }">
          <div v-for="g in row.groups" :key="g">{{ g }}<template v-for="x in row.decisions" :key="x.group"><span v-if="x.group === g" :class="x.due ? 'warn' : 'soft'" :title="x.because">, by decision of {{ x.author }} until {{ x.review }}{{ x.due ? ' (due)' : '' }}</span></template></div>
          <span v-if="!row.groups.length" class="soft">nobody</span>
        </template>
      </el-table-column>
    </el-table>
  </div>
</template>

<style scoped>
.pressing {
  list-style: none;
  margin: 14px 0 0;
  padding: 0;
}
.pressing li {
  display: grid;
  grid-template-columns: 150px 1fr;
  gap: 16px;
  padding: 9px 14px;
  margin-bottom: 6px;
}
.row {
  display: flex;
  justify-content: space-between;
  align-items: flex-end;
}
.row h2 {
  margin-bottom: 8px;
}
.tools {
  display: flex;
  gap: 10px;
  align-items: center;
  margin-bottom: 8px;
}
.el-progress {
  margin-top: 5px;
}
.chart {
  padding: 12px 8px 6px;
}
</style>
