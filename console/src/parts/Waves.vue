<script setup lang="ts">
// The waves of a rollout: who is in each, how far it is, and each gate's value beside its limit.
import { computed } from 'vue'
import type { Rollout, Schemas } from '../api'
import { count, number, progressLook, sentence } from '../words'

const props = defineProps<{ rollout: Rollout }>()
type Part = Schemas['RolloutPart']

const order = ['done', 'unchanged', 'working', 'waiting', 'failed', 'behind', 'skipped', 'queued']
const bits = (p: Part) => order.filter((s) => (p.counts[s] ?? 0) > 0).map((s) => ({ state: s, hosts: p.counts[s] ?? 0, tone: progressLook[s]?.tone ?? 'plain' }))
const gates = (p: Part) => p.gates.filter((g) => g.value > 0 || (g.most >= 0 && g.name !== 'refused'))
const words: Record<string, string> = { failed: 'failed', silent: 'silent', unrefreshed: 'not refreshed', drifted: 'drifted after', refused: 'refused upstream' }
// reasons are why places that it would bring are refused, each once.
const reasons = computed(() => {
  const out: { says: string; remedy: string; places: Schemas['RefusedPlace'][] }[] = []
  for (const x of (props.rollout.parts ?? []).flatMap((p) => p.refused ?? [])) {
    let r = out.find((y) => y.says === x.says)
    if (!r) out.push((r = { says: x.says, remedy: x.remedy, places: [] }))
    const had = r.places.find((y) => y.key === x.key)
    if (had) had.hosts += x.hosts
    else r.places.push({ ...x })
  }
  return out
})
function stands(p: Part): { word: string; tone: string } {
  const r = props.rollout
  const reached = Object.values(p.counts).reduce((a, b) => a + b, 0)
  if ((r.ended || r.stopped) && reached < p.hosts) return { word: reached ? 'stopped' : 'not begun', tone: 'warn' }
  if (r.ended || p.wave < r.wave) return { word: 'over', tone: 'soft' }
  if (p.wave > r.wave) return { word: p.consent && !p.agreed ? 'wants consent' : 'to come', tone: 'soft' }
  return { word: { held: 'held', soaking: 'done, time passes', changing: 'under way' }[r.phase as string] ?? 'over', tone: r.phase === 'held' ? 'bad' : 'good' }
}
</script>

<template>
  <div class="card waves" role="list" aria-label="Waves">
    <div v-for="(p, i) in props.rollout.parts" :key="i" class="wave" role="listitem">
      <div class="no"><b>Wave {{ p.wave }}</b><div :class="stands(p).tone">{{ stands(p).word }}</div></div>
      <div class="who">{{ p.what }}<div class="soft">plan {{ p.plan }}<template v-if="p.agreed">, agreed by {{ p.agreed }}</template><template v-if="p.quiet">, quiet {{ p.quiet }}</template></div></div>
      <div class="far">
        <div class="strip" :title="bits(p).map((b) => `${number(b.hosts)} ${b.state}`).join(', ')">
          <span v-for="b in bits(p)" :key="b.state" :class="['bit', b.tone, b.state]" :style="{ flexGrow: b.hosts }" />
        </div>
        <div class="soft">{{ count(p.hosts, 'host', 'hosts') }}{{ bits(p).length ? ': ' : '' }}{{ bits(p).map((b) => `${number(b.hosts)} ${b.state}`).join(', ') }}</div>
      </div>
      <div class="gates">
        <span v-for="g in gates(p)" :key="g.name" :class="['gate', { bad: !g.passed }]">{{ g.passed ? '' : '✗ ' }}{{ words[g.name] ?? g.name }} <b>{{ g.value }}</b><span class="soft">{{ g.most >= 0 ? ` of at most ${g.most}` : '' }}</span></span>
        <span v-if="p.unseen" class="gate warn">? not known what it brings to <b>{{ p.unseen }}</b></span>
      </div>
    </div>
    <div v-for="r in reasons" :key="r.says" class="wave refused" role="listitem">
      <div class="no"><b class="bad">✗ Refused</b><div class="bad">upstream</div></div>
      <div class="why"><b>{{ sentence(r.says) }}</b><div class="soft">{{ sentence(r.remedy) }}</div>
        <div v-for="x in r.places" :key="x.key"><router-link class="mono" :to="{ name: 'repository', params: { key: x.key } }">{{ x.address }}</router-link> <span class="soft">{{ count(x.hosts, 'host', 'hosts') }}</span></div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.waves {
  padding: 4px 14px;
}
.wave {
  display: grid;
  grid-template-columns: 110px 180px 1fr 360px;
  gap: 18px;
  padding: 10px 0;
  align-items: center;
}
.wave + .wave {
  border-top: 1px solid var(--line);
}
.refused {
  grid-template-columns: 110px 1fr;
  align-items: start;
}
.why {
  overflow-wrap: anywhere;
}
.strip {
  display: flex;
  height: 10px;
  border-radius: 5px;
  overflow: hidden;
  background: var(--line);
  margin-bottom: 4px;
}
.bit {
  min-width: 4px;
  background: var(--line);
}
.bit.good,
.bit.unchanged {
  background: var(--good);
}
.bit.busy {
  background: var(--amber);
}
.bit.bad {
  background: var(--bad);
}
.bit.warn {
  background: var(--warn);
}
.gates {
  display: flex;
  gap: 4px 14px;
  flex-wrap: wrap;
}
.gate.bad {
  font-weight: 600;
}
@media (max-width: 1000px) {
  .wave {
    grid-template-columns: 110px minmax(0, 1fr);
    gap: 6px 18px;
  }
  .far,
  .gates {
    grid-column: 1 / -1;
  }
}
</style>
