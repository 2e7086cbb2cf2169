<script setup lang="ts">
// The policy: its revisions, its files, and an edit of them with what it would do.
import { useTimeoutFn } from '@vueuse/core'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { onBeforeRouteLeave, useRoute, useRouter } from 'vue-router'
import { useActing } from '../acting'
import { useAddress } from '../address'
import { client, told, type Preview, type Schemas } from '../api'
import { useNow } from '../now'
import Asked from '../parts/Asked.vue'
import Diff from '../parts/Diff.vue'
import Empty from '../parts/Empty.vue'
import ProposalCard from '../parts/ProposalCard.vue'
import ProposalList from '../parts/ProposalList.vue'
import Trouble from '../parts/Trouble.vue'
import { useMayChange, useSession } from '../role'
import { ago, count, exact, short } from '../words'

const Follows = defineAsyncComponent(() => import('../parts/Follows.vue'))
const Editor = defineAsyncComponent(() => import('../parts/Editor.vue'))
const now = useNow()
const route = useRoute()
const router = useRouter()
const mayChange = useMayChange()
const perPage = 10
const { page, turned } = useAddress()
const listed = (n: number) => ({ queryKey: ['revisions', 'list', n], queryFn: () => told(client.GET('/api/revisions', { params: { query: { page: n, per_page: perPage } } })) })
const revisions = useQuery(computed(() => ({ ...listed(page.value), placeholderData: keepPreviousData })))
const latest = useQuery(listed(1))
const newest = ref(0)
watch(() => latest.data.value, (r) => { if (r) newest.value = r.items[0]?.number ?? 0 }, { immediate: true })
/** The revision that is shown, and from which an edit begins: it stays while one edits. */
const base = ref(0)
const wanted = computed(() => Number(route.query.revision) || 0)
/** A proposal that is looked at, in the place of a revision: it is read, and not edited. */
const looked = computed(() => Number(route.query.proposal) || 0)
const proposal = useQuery({
  queryKey: computed(() => ['proposals', 'one', looked.value]),
  queryFn: () => told(client.GET('/api/proposals/{number}', { params: { path: { number: looked.value } } })),
  enabled: computed(() => looked.value > 0),
})
const proposed = computed(() => (looked.value ? proposal.data.value : undefined))
const proposals = useQuery({ queryKey: ['proposals', 'open'], queryFn: () => told(client.GET('/api/proposals', { params: { query: { open: true, per_page: 50 } } })) })
const consent = computed(() => proposals.data.value?.consent ?? false)
const edits = ref<Record<string, string>>({})
/** Files that the edit takes away: those of a key that goes. */
const gone = ref<string[]>([])
const edited = computed(() => Object.keys(edits.value).length + gone.value.length > 0)
watch([newest, wanted, proposed], ([n, w, p]) => { if (!edited.value) base.value = p?.base || w || n }, { immediate: true })

const folder = useQuery({
  queryKey: computed(() => ['revision-files', base.value]),
  queryFn: () => told(client.GET('/api/revisions/{number}', { params: { path: { number: base.value } } })),
  enabled: computed(() => base.value > 0),
  staleTime: Infinity,
})
const decode = (b64: string) => new TextDecoder().decode(Uint8Array.from(atob(b64), (c) => c.charCodeAt(0)))
function encode(text: string) {
  let out = ''
  for (const b of new TextEncoder().encode(text)) out += String.fromCharCode(b)
  return btoa(out)
}
const before = computed(() => folder.data.value?.files ?? {})
const shown = computed(() => proposed.value?.files ?? before.value)
/** Files that a proposal has otherwise than the revision that it was made on. */
const others = computed(() => (proposed.value ? Object.keys({ ...before.value, ...shown.value }).filter((n) => before.value[n] !== shown.value[n]) : []))
const names = computed(() => Object.keys({ ...before.value, ...shown.value, ...edits.value }).sort((a, b) => Number(a.includes('/')) - Number(b.includes('/')) || a.localeCompare(b)))
const file = computed(() => (typeof route.query.file === 'string' && names.value.includes(route.query.file) ? route.query.file : (others.value.find((n) => n.endsWith('.yaml')) ?? names.value.find((n) => n.endsWith('hosts.yaml')) ?? names.value.find((n) => n.endsWith('.yaml')) ?? '')))
/** The files as a tree: where another folder begins, its name stands before them. */
const rows = computed(() =>
  names.value.map((name, i) => {
    const folderOf = (n = '') => n.slice(0, n.lastIndexOf('/') + 1)
    const folder = folderOf(name)
    return { name, folder: folder !== folderOf(names.value[i - 1]) ? folder : '', short: name.slice(folder.length), within: folder !== '' }
  }),
)
const was = computed(() => said(shown.value[file.value] ?? ''))
const editable = (name: string) => name.endsWith('.yaml')
/** What of a file is shown: keys may be no text. */
function said(body: string) {
  const text = decode(body)
  return text.includes('\0') || text.includes('\ufffd') ? `(a file in binary form, ${text.length} bytes)` : text
}
const text = computed(() => edits.value[file.value] ?? was.value)
function changeIn(name: string, t: string) {
  const { [name]: _, ...others } = edits.value
  edits.value = t === decode(shown.value[name] ?? '') ? others : { ...others, [name]: t }
}
const change = (t: string) => changeIn(file.value, t)
const texts = computed(() => Object.fromEntries(Object.keys(shown.value).filter((n) => n.endsWith('.yaml')).map((n) => [n, edits.value[n] ?? decode(shown.value[n] ?? '')])))
function move(name: string, t: string) {
  changeIn(name, t)
  show({ file: name })
}
function undo() {
  edits.value = {}
  gone.value = []
  notes.value = []
}

// A source that a host has and the policy does not list is taken in: its files begin as an edit.
const notes = ref<string[]>([]) // what people have to look at
function beginWith(files: Record<string, string>, query: Record<string, undefined>) {
  edits.value = { ...edits.value, ...Object.fromEntries(Object.entries(files).map(([n, b]) => [n, decode(b)])) }
  show({ ...query, file: Object.keys(files).find((n) => n.endsWith('.yaml')) })
}
async function takeIn(hosts: string, at: string) {
  const [, path = at, line = '0'] = /^(.*?)(?::(\d+))?$/.exec(at) ?? []
  try {
    const taken = await told(client.POST('/api/policy/adoption', { body: { to: hosts.split(','), file: path, line: Number(line) } }))
    notes.value = taken.notes.map((n) => `${short(n.host)}: ${n.message}`)
    beginWith(taken.files, { adopt: undefined, at: undefined })
  } catch (e) {
    error.value = e as Error
  }
}
watch([() => route.query.adopt, newest], ([hosts, n]) => { if (typeof hosts === 'string' && n) void takeIn(hosts, String(route.query.at ?? '')) }, { immediate: true })

// A key that another has taken over from is taken out: what its files are without it begins as an edit.
async function retire(key: string) {
  try {
    const r = await told(client.POST('/api/policy/retirement', { body: { key } }))
    gone.value = r.files_gone
    notes.value = r.mentions.map((at) => `${at.file}:${at.line}: a comment speaks of ${key} still`)
    if (r.checked_packages.length) notes.value.push(`${r.checked_packages.join(', ')}: dnf, zypper, pacman and flatpak check each package, and refuse one that ${key} alone has signed`)
    beginWith(r.files, { retire: undefined })
  } catch (e) {
    error.value = e as Error
  }
}
watch([() => route.query.retire, newest], ([key, n]) => { if (typeof key === 'string' && n) void retire(key) }, { immediate: true })
onBeforeRouteLeave(() => !edited.value || window.confirm('The edit is not published. Leave it?'))

const files = computed(() => {
  const all = { ...shown.value, ...Object.fromEntries(Object.entries(edits.value).map(([n, t]) => [n, encode(t)])) }
  for (const n of gone.value) delete all[n]
  return all
})
const words = computed(() => [...new Set(Object.entries(folder.data.value?.files ?? {}).filter(([n]) => n.endsWith('.yaml')).flatMap(([, b]) => decode(b).match(/[a-zA-Z][\w-]{2,}/g) ?? []))].sort())

// What the edit comes to is asked when somebody pauses; an older answer never overtakes a newer one.
const check = ref<Schemas['CheckResult'] | null>(null)
const preview = ref<Preview | null>(null)
const { error, busy, act } = useActing()
const asking = ref(false)
let turn = 0
const paused = useTimeoutFn(() => void judge(turn), 500, { immediate: false })
watch(files, () => {
  paused.stop()
  turn++
  check.value = preview.value = error.value = null
  if (edited.value || proposed.value) paused.start()
})
async function judge(mine: number) {
  asking.value = true
  try {
    const body = { files: files.value }
    const c = await told(client.POST('/api/policy/check', { body }))
    if (mine !== turn) return
    check.value = c
    if (c.diagnostics.some((d) => d.severity === 'error')) return
    const p = await told(client.POST('/api/policy/preview', { body }))
    if (mine === turn) preview.value = p
  } catch (e) {
    if (mine === turn) error.value = e as Error
  } finally {
    if (mine === turn) asking.value = false
  }
}
const diagnostics = computed(() => check.value?.diagnostics ?? [])
const wrong = computed(() => diagnostics.value.filter((d) => d.severity === 'error'))
const warnings = computed(() => diagnostics.value.filter((d) => d.severity !== 'error'))
const errors = computed(() => wrong.value.length)
const marks = computed(() => diagnostics.value.filter((d) => d.file === file.value).map((d) => ({ line: d.line, column: d.column, severity: d.severity, message: `${d.message}${d.remedy ? `; ${d.remedy}` : ''}` })))
const weakens = computed(() => [...new Set((preview.value?.groups ?? []).flatMap((g) => g.weakens ?? []))])

const publishing = ref(false)
const message = ref('')
const alone = ref(false) // without somebody else's consent, because it cannot wait
watch(publishing, () => (alone.value = false))
const publish = () => act(async () => {
  const r = await told(client.POST('/api/revisions', { body: { files: files.value, message: message.value, alone: alone.value || undefined } }))
  publishing.value = false
  undo()
  message.value = ''
  newest.value = base.value = r.number
  await router.replace({ query: { file: file.value } })
  await Promise.all([latest.refetch(), revisions.refetch()])
  done.value = r.number
})
const propose = () => act(async () => {
  const p = await told(client.POST('/api/proposals', { body: { files: files.value, message: message.value } }))
  publishing.value = false
  undo()
  message.value = ''
  await proposals.refetch()
  await router.replace({ query: { proposal: String(p.number) } })
})
const session = useSession()
const me = computed(() => session.data.value?.operator ?? '')
const done = ref(0)
async function became(number: number) {
  newest.value = number
  await router.replace({ query: {} })
  await Promise.all([latest.refetch(), revisions.refetch(), proposals.refetch()])
  done.value = number
}
const show = (query: Record<string, string | undefined>) => void router.replace({ query: { ...route.query, ...query } })

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = NonNullable<typeof revisions.data.value>['items'][number]
</script>

<template>
  <h1 v-if="revisions.data.value && !revisions.data.value.total">Nothing is published yet</h1>
  <h1 v-else-if="proposed">Proposal {{ proposed.number }} <span class="soft">on revision {{ proposed.base }}</span></h1>
  <h1 v-else-if="base">Revision {{ base }}<template v-if="base !== newest"> <span class="soft">of {{ newest }}</span></template><span v-if="edited" class="warn">, edited</span></h1>
  <Asked :of="[revisions, folder, proposal, proposals]" />
  <Trouble class="told" :error="error" />
  <Empty v-if="revisions.data.value && !revisions.data.value.total">Begin with what the hosts have: <code>lantern policy learn FOLDER</code>, then <code>lantern policy publish FOLDER</code></Empty>
  <p v-if="done && !edited" class="good">Revision {{ done }} is published. <router-link to="/changes">What it would change, and begin</router-link></p>
  <ProposalList v-if="proposals.data.value?.items.length && !edited" :list="proposals.data.value.items" :here="looked" @show="(n) => show({ proposal: String(n), revision: undefined, file: undefined })" />
  <p v-for="n in edited ? notes : []" :key="n" class="warn">! {{ n }}</p>
  <p v-if="edited && newest !== base" class="warn">! This edit begins from revision {{ base }}, and revision {{ newest }} is newer: publishing it takes back what that one said.</p>

  <div v-if="folder.data.value" class="desk">
    <nav aria-label="Files" class="card files" tabindex="0">
      <template v-for="r in rows" :key="r.name">
        <span v-if="r.folder" class="folder soft">{{ r.folder }}</span>
        <a href="#" :title="r.name" :class="{ here: r.name === file, within: r.within }" :aria-label="gone.includes(r.name) ? `${r.name}, goes` : r.name" :aria-current="r.name === file ? 'true' : undefined" @click.prevent="show({ file: r.name })"><span aria-hidden="true">{{ gone.includes(r.name) ? '−' : edits[r.name] !== undefined || others.includes(r.name) ? '±' : ' ' }}</span> {{ r.short }}</a>
      </template>
    </nav>
    <Editor :key="`${looked} ${base} ${file}`" :text="text" :file="file" :files="texts" :readonly="!mayChange || looked > 0 || !editable(file)" :words="words" :marks="marks" @change="change" />
    <aside class="card does" aria-label="What the edit would do" aria-live="polite" tabindex="0">
      <ProposalCard v-if="proposed" :proposal="proposed" :me="me" :may="mayChange" @became="became" @ended="show({ proposal: undefined })" />
      <template v-if="!edited && !looked">
        <b>{{ mayChange ? 'Edit, and it is said here what it would do.' : 'As a reader you look; an operator can edit.' }}</b>
        <p class="soft">Nothing changes on any host before it is published and a rollout is begun. The same on the command line: <code>lantern policy fetch {{ base }} ./policy</code>, <code>lantern policy preview ./policy</code></p>
      </template>
      <template v-else>
        <p v-if="asking && !preview" class="soft">Being worked out …</p>
        <p v-if="errors" class="bad"><b>✗ {{ count(errors, 'error', 'errors') }}:</b> it would not be published</p>
        <ul v-if="errors">
          <li v-for="(d, i) in wrong.slice(0, 12)" :key="i" class="bad"><a v-if="names.includes(d.file)" href="#" @click.prevent="show({ file: d.file })">{{ d.file }}:{{ d.line }}</a> ✗ {{ d.message }}<span v-if="d.remedy" class="soft">; {{ d.remedy }}</span></li>
        </ul>
        <template v-if="preview">
          <p><b v-if="preview.changing" class="warn">{{ count(preview.changing, 'host', 'hosts') }} would change</b><b v-else>No host that is known would change</b><template v-if="preview.changing">, in {{ count(preview.groups.length, 'way', 'ways') }}</template>; {{ preview.steady }} have all of it<template v-if="preview.drifted">, <span class="warn">! {{ preview.drifted }} of those with findings that it leaves as they are</span></template>.<template v-if="preview.unknown_names.length"> <span class="warn">? Not looked at: {{ count(preview.unknown_names.length, 'host', 'hosts') }} without a survey.</span></template></p>
          <p v-for="w in weakens" :key="w" class="bad"><b>!! weakens security:</b> {{ w }}</p>
          <p v-for="r in preview.refused" :key="r.key" class="bad"><b>!! refused upstream:</b> {{ r.address }}: {{ r.says }}</p>
          <p v-for="x in preview.swaps.slice(0, 8)" :key="x.says" class="warn">{{ x.says }}</p>
          <p v-for="g in preview.sources_gone" :key="g.source" class="warn">a source goes: {{ g.says }}</p>
          <p v-for="u in preview.unforeseen" :key="u.why" class="warn">? of {{ count(u.hosts, 'host', 'hosts') }} it is not known which packages would be swapped: {{ u.why }}</p>
          <details v-for="(g, i) in preview.groups.slice(0, 6)" :key="i" :open="i === 0">
            <summary>{{ g.names.slice(0, 4).map(short).join(', ') }}<template v-if="g.names.length > 4"> and {{ g.names.length - 4 }} more</template></summary>
            <Diff :text="g.diff" />
          </details>
        </template>
        <details v-if="warnings.length">
          <summary class="warn">! {{ count(warnings.length, 'warning', 'warnings') }}</summary>
          <ul>
            <li v-for="(d, i) in warnings" :key="i"><a v-if="names.includes(d.file)" href="#" @click.prevent="show({ file: d.file })">{{ d.file }}:{{ d.line }}</a> {{ d.message }}<span v-if="d.remedy" class="soft">; {{ d.remedy }}</span></li>
          </ul>
        </details>
        <div v-if="edited" class="buttons">
          <el-button @click="undo">Undo the edit</el-button>
          <el-button type="primary" :disabled="!preview || errors > 0" @click="publishing = true">{{ consent ? 'Propose …' : 'Publish …' }}</el-button>
        </div>
      </template>
    </aside>
  </div>
  <Follows v-if="folder.data.value" :files="texts" :may-change="mayChange && !looked" @change="move" />

  <h2 v-if="revisions.data.value?.total">Revisions</h2>
  <div v-if="revisions.data.value?.total" class="card">
    <el-table :data="revisions.data.value.items" row-key="number">
      <el-table-column label="No." width="70" align="right"><template #default="{ row }: { row: Row }"><a href="#" @click.prevent="show({ revision: String(row.number) })">{{ row.number }}</a></template></el-table-column>
      <el-table-column label="Published" width="150"><template #default="{ row }: { row: Row }"><span :title="exact(row.created)">{{ ago(row.created, now) }}</span></template></el-table-column>
      <el-table-column label="By" prop="author" width="150" show-overflow-tooltip />
      <el-table-column label="Hosts on it" prop="hosts" width="110" align="right" />
      <el-table-column label="Why" min-width="260"><template #default="{ row }: { row: Row }">{{ row.message || '–' }}</template></el-table-column>
    </el-table>
  </div>
  <el-pagination v-if="(revisions.data.value?.total ?? 0) > perPage" v-model:current-page="turned" class="pages" layout="prev, pager, next, total" :total="revisions.data.value?.total" :page-size="perPage" />

  <el-dialog v-model="publishing" :title="consent ? 'Propose this edit' : 'Publish this edit'" width="520">
    <p v-if="consent && preview">Revision {{ newest }} wants that somebody else agrees before a folder is published. {{ count(preview.changing, 'host', 'hosts') }} would change, in {{ count(preview.groups.length, 'way', 'ways') }}<template v-if="weakens.length">, <b class="bad">and it weakens security</b></template>.</p>
    <p v-else-if="preview">It becomes revision {{ newest + 1 }}: {{ count(preview.changing, 'host', 'hosts') }} would change, in {{ count(preview.groups.length, 'way', 'ways') }}<template v-if="weakens.length">, <b class="bad">and it weakens security</b></template>. No host changes before a rollout is begun.</p>
    <el-input v-model="message" maxlength="500" :placeholder="alone ? 'Why it cannot wait' : 'What changed, for those who come later'" aria-label="Message" />
    <el-checkbox v-if="consent" v-model="alone">It cannot wait: publish it without somebody else's consent. The message says why, and it stays in the audit.</el-checkbox>
    <template #footer>
      <el-button @click="publishing = false">Not now</el-button>
      <el-button v-if="!alone" :type="consent ? 'primary' : undefined" :loading="busy" :disabled="message.trim().length < 3" @click="propose">Propose it</el-button>
      <el-button v-if="!consent || alone" :type="alone ? 'danger' : 'primary'" :loading="busy" :disabled="message.trim().length < 3" @click="publish">Publish revision {{ newest + 1 }}{{ alone ? ' alone' : '' }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.desk {
  display: grid;
  grid-template-columns: 215px minmax(0, 5fr) minmax(0, 4fr);
  gap: 12px;
  margin-top: 12px;
  align-items: start;
}
.files {
  padding: 6px 0;
  max-height: 62vh;
  overflow: auto;
}
.files a {
  display: block;
  padding: 3px 12px;
  text-decoration: none;
  font: 13px var(--mono);
  white-space: pre;
  overflow: hidden;
  text-overflow: ellipsis;
  color: var(--ink);
}
.files a.here {
  font-weight: 700;
  background: var(--el-color-primary-light-9);
}
.files a.within {
  padding-left: 22px;
}
.files .folder {
  display: block;
  padding: 6px 12px 2px 26px;
  font: 13px var(--mono);
}
.does {
  padding: 10px 14px;
  max-height: 62vh;
  overflow: auto;
  overflow-wrap: anywhere;
}
.does ul {
  padding-left: 16px;
  margin: 4px 0;
}
.does p {
  margin: 4px 0 8px;
}
.buttons {
  margin-top: 10px;
}
@media (max-width: 1000px) {
  .desk {
    grid-template-columns: minmax(0, 1fr);
  }
  .files {
    max-height: 140px;
  }
}
</style>
