<script setup lang="ts">
// How the fleet stands, and the one thing to do now.
import { computed } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { client, told } from '../api'
import { useAddress } from '../address'
import { useNow } from '../now'
import Asked from '../parts/Asked.vue'
import Days from '../parts/Days.vue'
import Differences from '../parts/Differences.vue'
import Field from '../parts/Field.vue'
import Freezes from '../parts/Freezes.vue'
import Moment from '../parts/Moment.vue'
import NotKnown from '../parts/NotKnown.vue'
import { ago, count, date, exact, number, short } from '../words'

const now = useNow()
const mostFindings = 6
const { text, go } = useAddress()
const rows = computed<'system' | 'cohort'>(() => (text('by') === 'cohort' ? 'cohort' : 'system'))
const field = useQuery({ queryKey: ['hosts', 'field', rows], queryFn: async () => ({ by: rows.value, ...(await told(client.GET('/api/field', { params: { query: { by: rows.value } } }))) }), placeholderData: keepPreviousData })
const drift = useQuery({ queryKey: ['drift', 'overview'], queryFn: () => told(client.GET('/api/drift/groups', { params: { query: { per_page: mostFindings } } })) })
const rollouts = useQuery({ queryKey: ['rollouts', 'overview'], queryFn: () => told(client.GET('/api/rollouts', { params: { query: { per_page: 1 } } })) })
const revisions = useQuery({ queryKey: ['revisions', 'overview'], queryFn: () => told(client.GET('/api/revisions', { params: { query: { per_page: 1 } } })) })
const keys = useQuery({ queryKey: ['keys', 'overview'], queryFn: () => told(client.GET('/api/keys', { params: { query: { per_page: 1 } } })) })
const repositories = useQuery({ queryKey: ['repositories', 'overview'], queryFn: () => told(client.GET('/api/repositories', { params: { query: { per_page: 1 } } })) })
const outlook = useQuery({ queryKey: ['outlook', 'overview'], queryFn: () => told(client.GET('/api/outlook')) })
const certificate = useQuery({ queryKey: ['dates', 'certificate'], queryFn: () => told(client.GET('/api/dates', { params: { query: { kind: ['certificate'], per_page: 1 } } })), refetchInterval: 600_000 })
const weeks = 12
const days = useQuery({ queryKey: ['days'], queryFn: () => told(client.GET('/api/days', { params: { query: { days: 7 * weeks, per_page: 1000 } } })), refetchInterval: 600_000 })
const lately = useQuery({ queryKey: ['audit', 'overview'], queryFn: () => told(client.GET('/api/audit', { params: { query: { per_page: 7 } } })) })

const standing = computed(() => field.data.value?.standing)
const newest = computed(() => revisions.data.value?.items[0])
const rollout = computed(() => rollouts.data.value?.items[0])
const dangers = computed(() => drift.data.value?.items.filter((g) => g.severity === 'danger').length ?? 0)
const pressing = computed(() => (standing.value ? standing.value.failed + standing.value.drifted + standing.value.silent : 0))
const known = computed(() => {
  const s = standing.value
  return s !== undefined && s.failed + s.silent + s.changing + s.no_revision + s.no_survey + s.invited + s.unfetched + s.older + s.unread === 0
})
const keysToSee = computed(() => {
  const s = keys.data.value?.states ?? {}
  return (s.revoked ?? 0) + (s.withdrawn ?? 0) + (s.ended ?? 0) + (s.ends ?? 0) + (s.weak ?? 0)
})
/** When the service's own certificate ends, where that is soon. */
const ends = computed(() => {
  const at = certificate.data.value?.items[0]?.falls_due
  const left = at ? Date.parse(at) - now.value : Infinity
  return at && left < 30 * 86_400_000 ? { at, pressing: left < 7 * 86_400_000 } : undefined
})
const falling = computed(() => new Set((outlook.data.value?.ending ?? []).flatMap((e) => e.falling)).size)
const all = computed(() => [field, drift, rollouts, revisions, keys, repositories, outlook].every((q) => q.data.value !== undefined))

type Step = { says: string; verb: string; to: string; same: string }
/** What is pressing most, and where it is done. */
const next = computed<Step | null>(() => {
  const s = standing.value
  if (!all.value || !s) return null
  const r = rollout.value
  if (s.hosts + s.invited === 0) return { says: 'No host has joined yet.', verb: 'Invite one', to: '/people', same: 'lantern host invite NAME' }
  if (r && r.ended === null && r.phase === 'held') return { says: `Rollout ${r.id} is held: ${r.says}`, verb: 'Look at it', to: `/rollouts/${r.id}`, same: `lantern rollout show ${r.id}` }
  if (dangers.value) return { says: 'Packages could come from somebody who should not supply them.', verb: 'See the dangers', to: '/drift?severity=danger', same: 'lantern drift --severity danger' }
  if (ends.value?.pressing) return { says: `The certificate of this service ends on ${date(ends.value.at)}, and no host comes through then.`, verb: 'See where it is set', to: '/settings', same: 'lantern date list --kind certificate' }
  if (s.failed) return { says: `${count(s.failed, 'host has', 'hosts have')} failed, or an agent that cannot work.`, verb: 'See which', to: '/hosts?state=failed', same: 'lantern host list --state failed' }
  if (r && r.ended === null) return { says: r.says, verb: 'Watch it', to: `/rollouts/${r.id}`, same: 'lantern rollout show --watch' }
  const refused = repositories.data.value?.states.trouble ?? 0
  if (refused) return { says: `${count(refused, 'place of packages is', 'places of packages are')} refused or not reached.`, verb: 'See why', to: '/repositories?state=trouble', same: 'lantern repository list --state trouble' }
  if (s.drifted) return { says: `${count(s.drifted, 'host has', 'hosts have')} drifted.`, verb: 'See what differs', to: '/drift', same: 'lantern drift' }
  if (s.silent) return { says: `Of ${count(s.silent, 'host', 'hosts')} nothing is heard.`, verb: 'See which', to: '/hosts?state=silent', same: 'lantern host list --state silent' }
  if (!newest.value) return { says: 'Nothing is published yet.', verb: 'Policy', to: '/policy', same: 'lantern policy publish FOLDER' }
  if (s.no_revision + s.older || !r) return { says: `Revision ${newest.value.number} is not on every host.`, verb: 'See what it would change', to: '/changes', same: 'lantern policy preview' }
  if (keysToSee.value) return { says: `${count(keysToSee.value, 'key needs', 'keys need')} a look.`, verb: 'Keys', to: '/keys', same: 'lantern key list' }
  if (falling.value) return { says: `${count(falling.value, 'host', 'hosts')} would fall out of contracts that end.`, verb: 'Contracts', to: '/contracts', same: 'lantern contract outlook' }
  return null
})
const by = (who: string) => who.replace(/^operator:/, '').replace(/^host:/, '')
</script>

<template>
  <h1 v-if="standing">
    <template v-if="standing.hosts === 0">No host has joined yet</template>
    <span v-else-if="pressing === 0 && known" class="good">{{ count(standing.hosts, 'host is', 'hosts are') }} as the policy says</span>
    <template v-else-if="pressing === 0">{{ count(standing.hosts, 'host', 'hosts') }}, <span class="warn">not all of them known</span></template>
    <template v-else><span class="warn">{{ count(pressing, 'host needs', 'hosts need') }} a look</span> of {{ number(standing.hosts) }}</template>
  </h1>
  <Asked :of="[field, drift, rollouts, revisions, keys, repositories, outlook, certificate]" />
  <NotKnown v-if="standing?.hosts" :standing="standing" />

  <Freezes />
  <section v-if="next" class="card now" aria-label="What to do now">
    <b>Now:</b> <span class="says">{{ next.says }}</span>
    <router-link :to="next.to" class="press">{{ next.verb }}</router-link>
    <code class="soft" title="The same on the command line">{{ next.same }}</code>
  </section>
  <p v-else-if="all" class="soft">Nothing is pressing, as far as is known.</p>

  <Field v-if="field.data.value?.items.length" :systems="field.data.value.items" :total="field.data.value.total" :by="field.data.value.by" @by="(v) => go({ by: v === 'cohort' ? v : undefined })" />

  <div class="columns">
    <section>
      <h2>Drift, worst first</h2>
      <Differences :groups="drift.data.value?.items ?? []" brief @waived="drift.refetch()" />
      <p v-if="drift.data.value && drift.data.value.total > drift.data.value.items.length"><router-link to="/drift">{{ number(drift.data.value.total - drift.data.value.items.length) }} more</router-link></p>
      <p v-if="drift.data.value && !drift.data.value.items.length" class="soft">No findings on the hosts that are known.</p>
      <template v-if="days.data.value && standing?.hosts">
        <h2>Day by day</h2>
        <Days :days="days.data.value.items" />
      </template>
    </section>
    <section>
      <h2>What comes</h2>
      <ul class="card list plain">
        <li v-if="ends" class="warn">! The certificate of this service ends on <Moment :at="ends.at" day />, and no host comes through then: put another in its file</li>
        <li v-if="rollout"><router-link :to="{ name: 'rollout', params: { id: rollout.id } }">{{ rollout.kind }} {{ rollout.id }}</router-link> of revision {{ rollout.revision }}<template v-if="rollout.ended">, ended {{ ago(rollout.ended, now) }}</template><template v-else>: {{ rollout.says }}</template></li>
        <li v-if="newest"><router-link to="/policy">Revision {{ newest.number }}</router-link>, published by {{ newest.author }} {{ ago(newest.created, now) }}<template v-if="newest.message">: {{ newest.message }}</template></li>
        <li v-if="repositories.data.value">
          <router-link to="/repositories">Places of packages</router-link>: <b v-if="repositories.data.value.states.trouble" class="bad">!! {{ repositories.data.value.states.trouble }} refused or not reached</b><template v-else-if="repositories.data.value.total">none refused</template><template v-else>none is known</template><template v-if="repositories.data.value.states.unknown">, <span class="warn">? {{ repositories.data.value.states.unknown }} not known</span></template><template v-if="repositories.data.value.states.unsigned">, {{ repositories.data.value.states.unsigned }} that nothing pinned signs</template><template v-if="repositories.data.value.states.good">, {{ repositories.data.value.states.good }} good</template>
        </li>
        <li v-if="keys.data.value"><router-link to="/keys">Keys</router-link>: <span v-if="keysToSee" class="warn">! {{ count(keysToSee, 'needs', 'need') }} a look</span><template v-else-if="keys.data.value.total">none ends soon</template><template v-else>none is known</template><template v-if="keys.data.value.states.unknown">, <span class="warn">? {{ keys.data.value.states.unknown }} not in the policy</span></template></li>
        <li v-for="e in outlook.data.value?.ending ?? []" :key="e.held.number"><router-link to="/contracts">{{ e.held.number }}</router-link> {{ e.held.withdrawn ? 'was withdrawn' : Date.parse(e.held.end) <= now ? 'ended on' : 'ends on' }}<template v-if="!e.held.withdrawn">{{ ' ' }}<Moment :at="e.held.end" day /></template><template v-if="e.falling.length">, and <span class="warn">{{ count(e.falling.length, 'host falls', 'hosts fall') }} out</span></template></li>
      </ul>
      <h2>Lately</h2>
      <ul class="card list plain">
        <li v-for="e in lately.data.value?.items ?? []" :key="e.number"><span class="soft when" :title="exact(e.at)">{{ ago(e.at, now) }}</span> {{ e.what.replaceAll('-', ' ') }} <b>{{ [e.kind, short(e.name ?? '')].join(' ').trim() }}</b> <span class="soft">by {{ by(e.by) }}</span></li>
        <li><router-link to="/audit">All that was done</router-link></li>
      </ul>
    </section>
  </div>
</template>

<style scoped>
.now {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 14px;
  padding: 12px 14px;
  margin: 14px 0;
  border-left: 4px solid var(--amber);
}
.says {
  flex: 1 1 260px;
  overflow-wrap: anywhere;
}
.press {
  background: var(--amber);
  color: var(--card);
  padding: 6px 14px;
  border-radius: 3px;
  text-decoration: none;
  font-weight: 600;
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 0 24px;
}
.list {
  list-style: none;
  margin: 0;
  padding: 0;
}
.list li {
  display: flex;
  gap: 10px;
  padding: 8px 14px;
  border-bottom: 1px solid var(--line);
}
.list.plain li {
  display: block;
  overflow-wrap: anywhere;
}
.list li:last-child {
  border-bottom: 0;
}
.text {
  overflow-wrap: anywhere;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
