<script setup lang="ts">
// The waves of a rollout: who is in each, how far it is, and each gate's value beside its limit.
import type { Rollout, Schemas } from '../api'
import { count, progressLook } from '../words'

const props = defineProps<{ rollout: Rollout }>()
type Part = Schemas['RolloutPart']

const order = ['done', 'unchanged', 'working', 'waiting', 'failed', 'behind', 'skipped', 'queued']
const bits = (p: Part) => order.filter((s) => (p.counts[s] ?? 0) > 0).map((s) => ({ state: s, hosts: p.counts[s] ?? 0, tone: progressLook[s]?.tone ?? 'plain' }))
const gates = (p: Part) => p.gates.filter((g) => g.most >= 0 || g.value > 0)
const words: Record<string, string> = { failed: 'failed', silent: 'silent', unrefreshed: 'not refreshed', drifted: 'drifted after' }
function stands(p: Part): { word: string; tone: string } {
  const r = props.rollout
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
        <div class="strip" :title="bits(p).map((b) => `${b.hosts} ${b.state}`).join(', ')">
          <span v-for="b in bits(p)" :key="b.state" :class="['bit', b.tone, b.state]" :style="{ flexGrow: b.hosts }" />
        </div>
        <div class="soft">{{ count(p.hosts, 'host', 'hosts') }}: {{ bits(p).map((b) => `${b.hosts} ${b.state}`).join(', ') }}</div>
      </div>
      <div class="gates">
        <span v-for="g in gates(p)" :key="g.name" :class="['gate', { bad: !g.passed }]">{{ g.passed ? '' : '✗ ' }}{{ words[g.name] ?? g.name }} <b>{{ g.value }}</b><span class="soft">{{ g.most >= 0 ? ` of at most ${g.most}` : '' }}</span></span>
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
</style>
