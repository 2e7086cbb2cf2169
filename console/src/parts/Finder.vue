<script setup lang="ts">
// Ctrl-K: finds pages, what one does there, hosts, keys, repositories and packages, and goes there.
import { useEventListener, useTimeoutFn } from '@vueuse/core'
import { computed, nextTick, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { client, told } from '../api'
import { useMayChange } from '../role'
import { views } from '../views'

const router = useRouter()
const mayChange = useMayChange()
const open = ref(false)
const q = ref('')
const at = ref(0)
const input = ref<HTMLInputElement>()
type Hit = { kind: string; name: string; to: string }
const pages: Hit[] = Object.entries({
  'Overview': '/',
  'Hosts': '/hosts',
  'Drift': '/drift',
  'Drift: dangers only': '/drift?severity=danger',
  'Policy': '/policy',
  'Changes: what would change': '/changes',
  'Rollouts': '/rollouts',
  'Repositories': '/repositories',
  'Keys': '/keys',
  'Contracts and seats': '/contracts',
  'Audit: what was done': '/audit',
  'People: who may sign in': '/people',
  'Settings: what the service runs with': '/settings',
  'Report to print': '/report',
}).map(([name, to]) => ({ kind: 'page', name, to }))
// What one does, and where; each asks there before it is done.
const actions: Hit[] = Object.entries({
  'Heal or waive what drifted': '/drift',
  'Label, heal, carry or retire hosts': '/hosts',
  'Edit the policy': '/policy',
  'Move a group to another channel': '/policy#follows',
  'Begin a rollout': '/changes',
  'Hold, let go on, stop or take back a rollout': '/rollouts',
  'Freeze the fleet or a group': '/rollouts',
  'Look at all repositories now': '/repositories',
  'Take a seat back': '/contracts#seats',
  'Save dates as a calendar': '/contracts#contracts',
  'Add an account at a desk': '/contracts#accounts',
  'Let somebody sign in': '/people',
  'Invite a host': '/people#invite',
  'Serve a folder to hosts': '/settings#shelves',
  'Encrypt secrets with a new key': '/settings#secrets',
}).map(([name, to]) => ({ kind: 'action', name, to }))
const found = ref<Hit[]>([])
const trouble = ref('')
const hits = computed(() => {
  const part = q.value.trim().toLowerCase()
  const kept = views.value.map((v) => ({ kind: 'view', name: v.name, to: v.path }))
  const done = mayChange.value ? actions : []
  const words = part.split(/\s+/)
  const here = [...kept, ...pages, ...done].filter((p) => words.every((w) => p.name.toLowerCase().includes(w)))
  return [...here.slice(0, part ? 8 : 14), ...found.value]
})

let turn = 0
const typed = useTimeoutFn((part: string, mine: number) => void look(part, mine), 150, { immediate: false })
watch(q, (text) => {
  at.value = 0
  found.value = []
  typed.stop()
  const part = text.trim()
  const mine = ++turn
  if (part.length >= 2) typed.start(part, mine)
})
async function look(part: string, mine: number) {
  const query = { q: part, per_page: 6 }
  try {
    const [hosts, keys, places] = await Promise.all([
      told(client.GET('/api/hosts', { params: { query } })),
      told(client.GET('/api/keys', { params: { query } })),
      told(client.GET('/api/repositories', { params: { query } })),
    ])
    if (mine !== turn) return
    trouble.value = ''
    found.value = [
      ...hosts.items.map((h) => ({ kind: `host, ${h.state}`, name: h.name, to: `/hosts/${h.name}` })),
      ...keys.items.map((k) => ({ kind: 'key', name: k.policy || k.user_ids[0] || k.fingerprint, to: `/keys/${k.fingerprint}` })),
      ...places.items.map((r) => ({ kind: 'repository', name: `${r.names?.join(', ') || ''} ${r.address}`.trim(), to: `/repositories/${r.key}` })),
      { kind: 'findings with', name: part, to: `/drift?q=${encodeURIComponent(part)}` },
      { kind: 'whence comes', name: part, to: `/whence?package=${encodeURIComponent(part)}` },
    ]
  } catch (e) {
    if (mine === turn) trouble.value = (e as Error).message
  }
}
function go(h: Hit | undefined) {
  if (!h) return
  open.value = false
  void router.push(h.to)
}
function key(e: KeyboardEvent) {
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k') {
    e.preventDefault()
    open.value = !open.value
  }
}
function move(by: number) {
  at.value = Math.max(0, Math.min(hits.value.length - 1, at.value + by))
}
watch(open, async (o) => {
  if (!o) return
  q.value = ''
  await nextTick()
  input.value?.focus()
})
useEventListener(window, 'keydown', key)
</script>

<template>
  <button class="thin find" title="Find a page, action, host, key or repository (Ctrl K)" @click="open = true">Find <kbd>Ctrl K</kbd></button>
  <section>
  <el-dialog v-model="open" width="620" :show-close="false" title="Find a page, action, host, key, repository or package">
    <input
      ref="input"
      v-model="q"
      class="q"
      role="combobox"
      aria-expanded="true"
      aria-controls="finder-hits"
      :aria-activedescendant="`hit-${at}`"
      aria-label="Find"
      @keydown.down.prevent="move(1)"
      @keydown.up.prevent="move(-1)"
      @keydown.enter="go(hits[at])"
    />
    <p v-if="trouble" class="bad">{{ trouble }}</p>
    <ul id="finder-hits" role="listbox" aria-label="Found">
      <li v-for="(h, i) in hits" :id="`hit-${i}`" :key="h.to + h.kind" role="option" :aria-selected="i === at" :class="{ on: i === at }" @click="go(h)" @mousemove="at = i"><span class="soft kind">{{ h.kind }}</span> {{ h.name }}</li>
    </ul>
  </el-dialog>
  </section>
</template>

<style scoped>
.find {
  color: var(--soft);
}
kbd {
  font: 12px var(--mono);
}
.q {
  width: 100%;
  box-sizing: border-box;
  font: inherit;
  padding: 8px 10px;
  color: var(--ink);
  background: var(--paper);
  border: 1px solid var(--line);
  border-radius: 3px;
}
ul {
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
  max-height: 50vh;
  overflow: auto;
}
li {
  padding: 6px 10px;
  cursor: pointer;
  overflow-wrap: anywhere;
}
li.on {
  background: var(--el-color-primary-light-9);
}
.kind {
  display: inline-block;
  min-width: 110px;
}
</style>
