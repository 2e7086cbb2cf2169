<script setup lang="ts">
// All hosts, one mark each, gathered by system, or by what is configured exactly alike: those that
// need somebody first. The table beside it says the same in numbers, for those who do not see it
// or use no pointer.
import { useParentElement, useResizeObserver } from '@vueuse/core'
import { computed, nextTick, onMounted, ref, watch } from 'vue'
import type { Schemas } from '../api'
import { blocks } from '../field'
import { dark } from '../theme'
import { count, number, short, stateLook, states } from '../words'

type System = Schemas['FieldSystem']
const props = defineProps<{ systems: System[]; total: number; by: 'system' | 'cohort' }>()
defineEmits<{ by: [to: 'system' | 'cohort'] }>()
const canvas = ref<HTMLCanvasElement>()
const hosts = computed(() => props.systems.reduce((n, s) => n + s.hosts, 0))
/** The side of a mark with its gap, in pixels: small where there are many. */
const side = computed(() => (hosts.value > 20_000 ? 4 : hosts.value > 3000 ? 6 : hosts.value > 400 ? 10 : 16))
const used = computed(() => states.filter((s) => props.systems.some((x) => x.states[s])))

/** What a row is called. */
function named(s: System) {
  if (props.by === 'system') return s.system || 'no survey yet'
  if (!s.cohorts) return 'no survey yet'
  if (s.cohorts > 1) return count(s.cohorts, 'other cohort', 'other cohorts')
  return `as ${short(s.like ?? '')}`
}
/** Where its hosts are listed: of several small cohorts nothing lists them in one. */
function listed(s: System, state: string) {
  if (props.by === 'system') return { name: 'fleet', query: { q: s.system, state } }
  return s.cohorts === 1 ? { name: 'fleet', query: { like: s.like, state } } : undefined
}

const tone: Record<string, string> = { bad: '--bad', warn: '--warn', busy: '--busy', plain: '--soft', good: '--good' }

// Each state has a shape of its own: no colour is needed to tell them apart.
function mark(c: CanvasRenderingContext2D, state: string, x: number, y: number, n: number) {
  const m = n - (n > 8 ? 3 : 1)
  switch (state) {
    case 'failed':
      c.fillRect(x, y, m, m)
      break
    case 'drifted':
      c.fillRect(x, y, m, m / 2)
      if (n > 5) c.strokeRect(x + 0.5, y + 0.5, m - 1, m - 1)
      break
    case 'silent':
      c.strokeRect(x + 0.5, y + 0.5, m - 1, m - 1)
      break
    case 'changing':
      c.beginPath()
      c.moveTo(x, y)
      c.lineTo(x + m, y + m / 2)
      c.lineTo(x, y + m)
      c.fill()
      break
    case 'new':
      c.fillRect(x + m / 3, y + m / 3, m / 3, m / 3)
      break
    default:
      c.beginPath()
      c.arc(x + m / 2, y + m / 2, m / 3, 0, 7)
      c.fill()
  }
}

/** A mark of a state, to be laid over all hosts that are in it: each by itself takes a second where there are 100,000. */
function tile(c: CanvasRenderingContext2D, state: string, colour: string, n: number, scale: number) {
  const el = document.createElement('canvas')
  el.width = el.height = Math.round(n * scale)
  const t = el.getContext('2d')
  if (!t) return colour
  t.scale(el.width / n, el.height / n)
  t.fillStyle = t.strokeStyle = colour
  mark(t, state, 0, 0, n)
  const pattern = c.createPattern(el, 'repeat')
  pattern?.setTransform(new DOMMatrix().scale(n / el.width))
  return pattern ?? colour
}

let drawn = 0 // how wide the picture is
function draw() {
  const el = canvas.value
  const c = el?.getContext('2d')
  if (!el || !c) return
  const width = el.parentElement?.clientWidth ?? 600
  drawn = width
  const n = side.value
  const label = Math.min(190, Math.floor(width / 2))
  const least = props.by === 'cohort' ? 38 : 24
  const perRow = Math.max(1, Math.floor((width - label) / n))
  const heights = props.systems.map((s) => Math.max(least, Math.ceil(s.hosts / perRow) * n + 8))
  const height = heights.reduce((a, h) => a + h, 0)
  const scale = window.devicePixelRatio || 1
  el.width = width * scale
  el.height = height * scale
  el.style.height = `${height}px`
  c.scale(scale, scale)
  c.clearRect(0, 0, width, height)
  const style = getComputedStyle(document.documentElement)
  const colour = (v: string) => style.getPropertyValue(v).trim()
  const tiles = Object.fromEntries(used.value.map((s) => [s, tile(c, s, colour(tone[stateLook[s]?.tone ?? 'plain'] ?? '--soft'), n, scale)]))
  let y = 0
  props.systems.forEach((s, i) => {
    c.fillStyle = colour('--soft')
    c.font = '13px system-ui, "DejaVu Sans", sans-serif'
    c.fillText(`${named(s)}: ${number(s.hosts)}`, 0, y + 13, label - 8)
    if (props.by === 'cohort' && s.system) c.fillText(s.system, 0, y + 28, label - 8)
    c.save()
    c.translate(label, y)
    let at = 0
    for (const state of used.value) {
      const to = at + (s.states[state] ?? 0)
      c.fillStyle = tiles[state] ?? ''
      for (const b of blocks(at, to, perRow)) c.fillRect(b.column * n, b.row * n, b.columns * n, b.rows * n)
      at = to
    }
    c.restore()
    y += heights[i] ?? least
  })
}

onMounted(draw)
useResizeObserver(useParentElement(canvas), () => {
  if (canvas.value?.parentElement?.clientWidth !== drawn) draw() // its height is the picture's own
})
watch([() => props.systems, dark], () => void nextTick(draw))
</script>

<template>
  <section class="card field">
    <div class="picture">
      <div class="doing">
        <el-radio-group :model-value="by" size="small" aria-label="Gather hosts by" @update:model-value="(v) => $emit('by', v === 'cohort' ? 'cohort' : 'system')">
          <el-radio-button value="system">By system</el-radio-button>
          <el-radio-button value="cohort">By cohort</el-radio-button>
        </el-radio-group>
        <span v-if="by === 'cohort'" class="soft">{{ count(total, 'configuration', 'configurations') }}; hosts of a cohort are configured exactly alike</span>
      </div>
      <canvas ref="canvas" aria-hidden="true"></canvas>
    </div>
    <table>
      <caption class="soft">Hosts by {{ by }} and state</caption>
      <thead>
        <tr><th scope="col">{{ by === 'cohort' ? 'Cohort' : 'System' }}</th><th v-for="s in used" :key="s" scope="col"><span aria-hidden="true">{{ stateLook[s]?.sign }}</span> {{ s }}</th></tr>
      </thead>
      <tbody>
        <tr v-for="x in systems" :key="x.system + (x.like ?? '')">
          <th scope="row">{{ named(x) }}</th>
          <td v-for="s in used" :key="s"><router-link v-if="x.states[s] && listed(x, s)" :to="listed(x, s)!" :class="stateLook[s]?.tone">{{ number(x.states[s] ?? 0) }}</router-link><span v-else-if="x.states[s]" :class="stateLook[s]?.tone">{{ number(x.states[s] ?? 0) }}</span><span v-else class="soft">–</span></td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.field {
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 18px;
  padding: 12px 14px;
  margin: 14px 0;
}
canvas {
  width: 100%;
  display: block;
  margin-top: 10px;
  will-change: transform; /* a layer of its own: what changes beside 100,000 marks does not draw them again */
}
.picture .soft {
  font-size: 14px;
}
table {
  border-collapse: collapse;
  font-size: 14px;
  align-self: start;
}
caption {
  text-align: left;
  padding-bottom: 4px;
}
th,
td {
  padding: 3px 8px;
  text-align: right;
  font-weight: 400;
}
th:first-child {
  text-align: left;
}
thead th {
  color: var(--soft);
  white-space: nowrap;
}
@media (max-width: 900px) {
  .field {
    grid-template-columns: minmax(0, 1fr);
    overflow-x: auto;
  }
}
</style>
