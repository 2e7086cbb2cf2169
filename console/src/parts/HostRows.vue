<script lang="ts">
type Row = { i: number }
const rows: Row[] = []

/** As many rows as there are hosts; each is its place, and lists share them. */
function rowsTo(length: number) {
  while (rows.length < length) rows.push({ i: rows.length })
  return rows.slice(0, length)
}
</script>

<script setup lang="ts">
// Hosts by the thousand as one list that one scrolls through: rows are made where one looks, and fetched page by page.
import { useQueries } from '@tanstack/vue-query'
import { useDebounceFn, useElementSize, useWindowSize } from '@vueuse/core'
import type { Column, TableV2Instance } from 'element-plus'
import { computed, ref, watch } from 'vue'
import type { Host } from '../api'
import { number, short } from '../words'
import HostCell from './HostCell.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{
  total: number
  page: number // of the address: the one on top
  perPage: number
  sort: string
  asked: unknown // which hosts are meant
  ask: (page: number) => { queryKey: unknown[]; queryFn: () => Promise<{ items: Host[] }> }
  mayChange: boolean
  chosen: ReadonlySet<string>
}>()
const emit = defineEmits<{ at: [page: number]; sort: [by: string]; choose: [name: string, on: boolean]; all: [on: boolean]; open: [host: Host] }>()

const rowHeight = 42
const box = ref<HTMLElement>()
const table = ref<TableV2Instance>()
const { width } = useElementSize(box)
const { height: window_ } = useWindowSize()
const height = computed(() => Math.max(rowHeight * 8, window_.value - 300))

// Pages of which rows are seen. Whoever drags the bar past thousands asks for those alone at which it stops.
const seen = ref({ from: props.page, to: props.page })
let top = (props.page - 1) * props.perPage
let rowsSeen = 1
let said = props.page // where the address came from here; whoever goes on scrolling is not taken back by it
const settle = useDebounceFn((from: number, to: number) => {
  seen.value = { from, to }
  if (from !== said) emit('at', (said = from))
}, 80)
function onRows(at: { rowVisibleStart: number; rowVisibleEnd: number }) {
  top = at.rowVisibleStart
  rowsSeen = Math.max(1, at.rowVisibleEnd - at.rowVisibleStart)
  const pageOf = (row: number) => Math.floor(row / props.perPage) + 1
  void settle(pageOf(at.rowVisibleStart), pageOf(Math.min(at.rowVisibleEnd, props.total - 1)))
}
const pages = useQueries({
  queries: computed(() =>
    Array.from({ length: seen.value.to - seen.value.from + 1 }, (_, k) => seen.value.from + k).map((page) => ({
      ...props.ask(page),
      select: (got: { items: Host[] }) => ({ page, items: got.items }),
    })),
  ),
})
const known = computed(() => {
  const out = new Map<number, Host>()
  for (const { data } of pages.value) if (data) data.items.forEach((h, i) => out.set((data.page - 1) * props.perPage + i, h))
  return out
})
const error = computed(() => pages.value.find((p, k) => p.error && seen.value.from + k !== props.page)?.error) // of that one the page tells
const data = computed(() => rowsTo(props.total))

function scrollTo(row: number) {
  table.value?.scrollToRow(Math.min(Math.max(row, 0), props.total - 1), 'start')
}
// Somebody has come by an address, or back: where the page of the address begins stands on top.
const come = () => scrollTo((props.page - 1) * props.perPage)
watch(() => props.page, (page) => { if (page !== said) { said = page; come() } }, { flush: 'post' })
watch(table, (there) => { if (there && props.page > 1) requestAnimationFrame(come) }, { flush: 'post' })
watch([() => JSON.stringify(props.asked), () => props.sort], () => {
  seen.value = { from: 1, to: 1 }
  said = 1
  scrollTo(0)
})
function onKey(e: KeyboardEvent) {
  const by: Record<string, number> = { ArrowDown: top + 1, ArrowUp: top - 1, PageDown: top + rowsSeen, PageUp: top - rowsSeen, Home: 0, End: props.total - 1 }
  const to = by[e.key]
  if (to === undefined || e.target !== e.currentTarget || e.ctrlKey || e.metaKey || e.altKey) return
  e.preventDefault()
  scrollTo(to)
}

const parts = [
  { key: 'name', title: 'Host', width: 216, sorts: true },
  { key: 'state', title: 'State', width: 124, sorts: true },
  { key: 'detail', title: 'Why', width: 0, sorts: false },
  { key: 'os', title: 'System', width: 160, sorts: true },
  { key: 'revision', title: 'Revision', width: 96, sorts: true, right: true },
  { key: 'last_seen', title: 'Last seen', width: 116, sorts: true },
]
const columns = computed<Column<Row>[]>(() => {
  const fixed = parts.reduce((n, p) => n + p.width, props.mayChange ? 44 : 0)
  const list = parts.map((p) => ({
    key: p.key, dataKey: 'i', title: p.title, width: p.width || Math.max(180, width.value - fixed - 8), align: p.right ? ('right' as const) : undefined,
  }))
  return props.mayChange ? [{ key: 'chosen', dataKey: 'i', title: '', width: 44 }, ...list] : list
})
const sorts = (key: string) => parts.find((p) => p.key === key)?.sorts
const order = (key: string) => (props.sort === key ? '▲' : props.sort === `-${key}` ? '▼' : '')
const turned = (key: string) => emit('sort', props.sort === key ? `-${key}` : key)
const events = { onClick: ({ rowData }: { rowData: Row }) => { const h = known.value.get(rowData.i); if (h) emit('open', h) } }
const ordered = (given: { columns: Column<Row>[]; headerIndex: number }) => ({ 'aria-rowindex': given.headerIndex + 1 })
const numbered = ({ rowIndex }: { rowIndex: number }) => ({ 'aria-rowindex': rowIndex + 2 })
</script>

<template>
  <Trouble :error="error ?? null" />
  <div ref="box" class="card rows" role="group" tabindex="0" :aria-label="`${number(total)} hosts, in rows that scroll`" @keydown="onKey">
    <el-table-v2 v-if="width" ref="table" :columns="columns" :data="data" :width="width" :height="height" :row-height="rowHeight" :header-height="rowHeight" fixed row-key="i" :row-event-handlers="events" :row-props="numbered" :header-props="ordered" scrollbar-always-on @rows-rendered="onRows">
      <template #header-cell="{ column }">
        <el-checkbox v-if="column.key === 'chosen'" :model-value="chosen.size > 0 && chosen.size >= total" :indeterminate="chosen.size > 0 && chosen.size < total" :aria-label="`Choose all ${number(total)} that match`" @change="(on: unknown) => emit('all', on === true)" />
        <button v-else-if="sorts(String(column.key))" class="sort" :class="{ right: column.align === 'right' }" :aria-label="`${column.title}: put in order`" @click="turned(String(column.key))">{{ column.title }} <span aria-hidden="true">{{ order(String(column.key)) }}</span></button>
        <span v-else>{{ column.title }}</span>
      </template>
      <template #cell="{ column, rowData }">
        <template v-if="known.get(rowData.i)">
          <span v-if="column.key === 'chosen'" @click.stop><el-checkbox :model-value="chosen.has(known.get(rowData.i)!.name)" :aria-label="`Choose ${short(known.get(rowData.i)!.name)}`" @change="(on: unknown) => emit('choose', known.get(rowData.i)!.name, on === true)" /></span>
          <span v-else class="cell" :title="column.key === 'detail' ? known.get(rowData.i)!.detail : undefined"><HostCell :host="known.get(rowData.i)!" :part="String(column.key)" /></span>
        </template>
        <span v-else class="soft">{{ column.key === 'name' ? '…' : '' }}</span>
      </template>
    </el-table-v2>
  </div>
</template>

<style scoped>
.rows {
  overflow: hidden;
}
.cell {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.sort {
  font: inherit;
  font-weight: 600;
  color: inherit;
  background: none;
  border: 0;
  padding: 0;
  width: 100%;
  text-align: left;
  cursor: pointer;
}
.sort.right {
  text-align: right;
}
:deep(.el-table-v2__row) {
  cursor: pointer;
}
</style>
