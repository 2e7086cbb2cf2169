<script setup lang="ts">
// How the fleet stood day by day, and how soon findings were closed. A day on which nobody
// counted is a gap, and is said to be one. It is on the first page, so it is drawn by hand:
// a library for charts is larger than all of that page.
import { computed } from 'vue'
import type { Schemas } from '../api'
import { count, number, span } from '../words'

type Day = Schemas['Day']
const props = defineProps<{ days: Day[] }>()

const unheard = (d: Day) => (d.standing ? d.standing.silent + d.standing.no_survey + d.standing.no_revision + d.standing.changing : null)
const gaps = computed(() => props.days.filter((d) => !d.counted).length)
const sum = (of: (d: Day) => number) => props.days.reduce((n, d) => n + of(d), 0)
const closed = computed(() => sum((d) => d.closed))
const found = computed(() => sum((d) => d.arisen))
const enough = computed(() => props.days.length > 1)
const days = computed(() => [...props.days].reverse())

type Line = { name: string; mark: string; value: (d: Day) => number | null }
const hosts: Line[] = [
  { name: 'drifted', mark: 'drifted', value: (d) => d.standing?.drifted ?? null },
  { name: 'failed', mark: 'failed', value: (d) => d.standing?.failed ?? null },
  { name: 'not known', mark: 'unheard', value: unheard },
]
const closing: Line[] = [{ name: 'half of the closed ones were gone within', mark: 'closing', value: (d) => d.within ?? null }]

const most = (lines: Line[]) => Math.max(1, ...days.value.flatMap((d) => lines.map((l) => l.value(d) ?? 0)))
const x = (i: number) => (days.value.length < 2 ? 0 : (100 * i) / (days.value.length - 1))

/** The stretches between days of which nothing is known, as paths in a field of 100 by 100. */
function path(l: Line, top: number): string {
  let out = ''
  let on = false
  days.value.forEach((d, i) => {
    const v = l.value(d)
    if (v === null) {
      on = false
      return
    }
    const p = `${x(i).toFixed(2)} ${(100 - (100 * v) / top).toFixed(2)}`
    out += on ? ` L ${p}` : ` M ${p} l 0 0` // a day between two gaps is a dot
    on = true
  })
  return out.trim()
}
const panels = computed(() => [
  { title: 'Hosts', lines: hosts, top: most(hosts), says: (n: number) => String(n) },
  { title: 'Time to close', lines: closing, top: most(closing), says: span },
])
const told = (d: Day) =>
  d.standing
    ? `${d.day}: ${d.standing.drifted} drifted, ${d.standing.failed} failed, ${unheard(d) ?? 0} not known of ${d.standing.hosts}; ${d.arisen} found, ${d.closed} closed${d.within == null ? '' : `, half of them within ${span(d.within)}`}`
    : `${d.day}: nobody counted`
</script>

<template>
  <p class="soft">
    {{ count(found, 'finding', 'findings') }} came in {{ count(props.days.length, 'day', 'days') }}, {{ closed }} {{ closed === 1 ? 'was' : 'were' }} closed because the host was right again.
    <b v-if="gaps" class="warn">? On {{ count(gaps, 'day', 'days') }} nobody counted: how the fleet stood then is not known.</b>
    <template v-if="!enough">{{ ' ' }}A line is drawn from the second day on.</template>
  </p>
  <div v-if="enough" class="card chart" role="img" aria-label="Hosts that were drifted, failed or not known, and the time to close, by day; the table below says the same">
    <template v-for="p in panels" :key="p.title">
      <div class="legend">
        <span v-for="l in p.lines" :key="l.name"><svg class="key" :class="l.mark" viewBox="0 0 26 6" aria-hidden="true"><path d="M 0 3 L 26 3" /></svg>{{ l.name }}</span>
        <span v-if="gaps && p.lines === hosts"><span class="key swatch" />nobody counted</span>
      </div>
      <div class="panel" :class="{ low: p.lines === closing }">
        <span class="top soft">{{ p.says(p.top) }}</span><span class="zero soft">0</span>
        <svg class="field" viewBox="0 0 100 100" preserveAspectRatio="none">
          <path v-for="l in p.lines" :key="l.name" :class="l.mark" :d="path(l, p.top)" />
          <rect v-for="(d, i) in days" :key="d.day" class="day" :class="{ gap: !d.counted }" :x="x(i) - 50 / days.length" y="0" :width="100 / days.length" height="100"><title>{{ told(d) }}</title></rect>
        </svg>
      </div>
    </template>
    <div class="ends soft"><span>{{ days[0]?.day }}</span><span>{{ days[days.length - 1]?.day }} (UTC)</span></div>
  </div>
  <details>
    <summary>As a table <span class="soft">· <code>lantern day list</code></span></summary>
    <div class="card scroll" tabindex="0" role="region" aria-label="Days">
      <table>
        <thead><tr><th>Day</th><th>Hosts</th><th>Drifted</th><th>Failed</th><th>Not known</th><th>Found</th><th>Closed</th><th>Half of them within</th></tr></thead>
        <tbody>
          <tr v-for="d in props.days" :key="d.day">
            <td>{{ d.day }}</td>
            <template v-if="d.standing"><td>{{ number(d.standing.hosts) }}</td><td>{{ number(d.standing.drifted) }}</td><td>{{ number(d.standing.failed) }}</td><td>{{ number(unheard(d) ?? 0) }}</td><td>{{ number(d.arisen) }}</td><td>{{ number(d.closed) }}</td><td>{{ d.within == null ? '–' : span(d.within) }}</td></template>
            <td v-else colspan="7" class="warn">? nobody counted</td>
          </tr>
        </tbody>
      </table>
    </div>
  </details>
</template>

<style scoped>
.chart {
  padding: 10px 14px;
}
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
  margin: 2px 0 8px 52px;
  font-size: 13px;
}
.key {
  width: 26px;
  height: 6px;
  margin-right: 6px;
  vertical-align: middle;
}
.swatch {
  display: inline-block;
  height: 12px;
  background: var(--line);
}
.panel {
  position: relative;
  height: 120px;
  margin: 0 0 12px 52px;
  border-left: 1px solid var(--line);
  border-bottom: 1px solid var(--line);
}
.panel.low {
  height: 70px;
}
.panel span {
  position: absolute;
  right: calc(100% + 6px);
  white-space: nowrap;
  font-size: 13px;
  line-height: 1;
}
.top {
  top: 0;
}
.zero {
  bottom: 0;
}
.field {
  width: 100%;
  height: 100%;
  overflow: visible;
}
path {
  fill: none;
  stroke-width: 2;
  stroke-linejoin: round;
  stroke-linecap: round;
  vector-effect: non-scaling-stroke;
}
.drifted {
  stroke: var(--amber);
}
.failed {
  stroke: var(--bad);
  stroke-dasharray: 7 5;
}
.unheard {
  stroke: var(--soft);
  stroke-dasharray: 1 5;
}
.closing {
  stroke: var(--busy);
}
.day {
  fill: transparent;
}
.day.gap {
  fill: var(--line);
  opacity: 0.7;
}
.ends {
  display: flex;
  justify-content: space-between;
  margin-left: 52px;
  font-size: 13px;
}
.scroll {
  max-height: 320px;
  overflow: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
}
th,
td {
  text-align: right;
  padding: 4px 14px;
}
th:first-child,
td:first-child {
  white-space: nowrap;
  text-align: left;
}
summary {
  cursor: pointer;
  margin: 8px 0;
}
</style>
