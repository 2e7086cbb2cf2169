<script setup lang="ts">
// What the service runs with, the folders that it serves, and what this browser keeps.
import { computed, ref } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { useActing } from '../acting'
import { client, told } from '../api'
import { useNow } from '../now'
import Asked from '../parts/Asked.vue'
import Mark from '../parts/Mark.vue'
import Trouble from '../parts/Trouble.vue'
import { useMayChange } from '../role'
import { choose, chosen, type Theme } from '../theme'
import { drop, views } from '../views'
import { ago, count, exact, placeLook } from '../words'

const mayChange = useMayChange()
const now = useNow()
const settings = useQuery({ queryKey: ['settings'], queryFn: () => told(client.GET('/api/settings', { params: { query: { per_page: 1000 } } })) })
const shelves = useQuery({ queryKey: ['shelves'], queryFn: () => told(client.GET('/api/shelves')) })
const { error, busy, act: pressed } = useActing()
const said = ref('')
const act = (what: () => Promise<unknown>) => {
  said.value = ''
  return pressed(what)
}
const shelf = ref({ name: '', folder: '' })
const serve = () => act(async () => {
  await told(client.POST('/api/shelves', { body: { name: shelf.value.name.trim(), folder: shelf.value.folder.trim() } }))
  shelf.value = { name: '', folder: '' }
  await shelves.refetch()
})
const unserve = (name: string) => act(async () => {
  await told(client.DELETE('/api/shelves/{name}', { params: { path: { name } } }))
  await shelves.refetch()
})
const rotate = () => act(async () => {
  const r = await told(client.POST('/api/secrets/rotate'))
  said.value = `${count(r.secrets, 'secret is', 'secrets are')} encrypted with a new key. Back up its file: a backup of the database is of no use without it.`
})
const zone = computed(() => Intl.DateTimeFormat().resolvedOptions().timeZone)
const themes: { value: Theme; label: string }[] = [{ value: 'auto', label: 'as the system says' }, { value: 'light', label: 'light' }, { value: 'dark', label: 'dark' }]

// What stands in a row of a table, so that its columns are checked against the service's answers.
type SettingRow = NonNullable<typeof settings.data.value>['items'][number]
type ShelfRow = NonNullable<typeof shelves.data.value>['items'][number]
</script>

<template>
  <h1>Settings <span v-if="settings.data.value" class="soft">of version {{ settings.data.value.version }}</span></h1>
  <Asked :of="[settings, shelves]" />
  <Trouble class="told" :error="error" />
  <p class="soft">Who starts the service chooses these: <code>lantern serve --help</code>. The same on the command line: <code>lantern setting list</code></p>
  <div v-if="settings.data.value" class="card">
    <el-table :data="settings.data.value.items" row-key="name">
      <el-table-column label="Setting" width="170"><template #default="{ row }: { row: SettingRow }"><span class="mono">--{{ row.name }}</span></template></el-table-column>
      <el-table-column label="Value" width="110"><template #default="{ row }: { row: SettingRow }"><b>{{ row.value || '–' }}</b></template></el-table-column>
      <el-table-column label="What it means" min-width="420"><template #default="{ row }: { row: SettingRow }">{{ row.says }}</template></el-table-column>
    </el-table>
  </div>

  <h2 id="shelves">Shelves: folders that hosts are served</h2>
  <div v-if="shelves.data.value?.items.length" class="card">
    <el-table :data="shelves.data.value.items" row-key="name">
      <el-table-column label="Shelf" width="170"><template #default="{ row }: { row: ShelfRow }"><b>{{ row.name }}</b></template></el-table-column>
      <el-table-column label="Folder" min-width="180"><template #default="{ row }: { row: ShelfRow }"><span class="mono">{{ row.folder }}</span></template></el-table-column>
      <el-table-column label="Served at" min-width="180"><template #default="{ row }: { row: ShelfRow }"><span class="mono">{{ row.path }}</span></template></el-table-column>
      <el-table-column label="State" min-width="200"><template #default="{ row }: { row: ShelfRow }"><Mark :look="row.state === 'there' ? placeLook.good : placeLook.unknown" :word="row.state" /> <span class="soft">{{ row.why }}</span></template></el-table-column>
      <el-table-column label="Since" width="110"><template #default="{ row }: { row: ShelfRow }"><span :title="exact(row.created)">{{ ago(row.created, now) }}</span></template></el-table-column>
      <el-table-column v-if="mayChange" label="Action" width="110" align="right"><template #default="{ row }: { row: ShelfRow }"><el-popconfirm :title="`Serve ${row.name} no more? Hosts that use it cannot refresh then.`" confirm-button-text="Serve it no more" cancel-button-text="Keep it" width="260" @confirm="unserve(row.name)"><template #reference><el-button text size="small" :loading="busy">Remove</el-button></template></el-popconfirm></template></el-table-column>
    </el-table>
  </div>
  <p v-else-if="shelves.data.value" class="soft">None. A shelf gives packages and metadata to hosts that have no other way out.</p>
  <form v-if="mayChange" class="doing" @submit.prevent="serve">
    <el-input v-model="shelf.name" placeholder="Name" aria-label="Name of the shelf" style="width: 170px" />
    <el-input v-model="shelf.folder" placeholder="Folder below that of all shelves" aria-label="Folder of the shelf" style="width: 280px" />
    <el-button native-type="submit" :disabled="!shelf.name.trim() || !shelf.folder.trim()" :loading="busy">Serve it</el-button>
    <code class="soft">lantern shelf add NAME FOLDER</code>
  </form>

  <template v-if="mayChange">
    <h2 id="secrets">Secrets</h2>
    <p class="doing">
      <el-popconfirm title="Encrypt every stored secret with a new key? The old key opens nothing from then on, older backups aside." confirm-button-text="Encrypt anew" cancel-button-text="Not now" width="300" @confirm="rotate"><template #reference><el-button size="small" :loading="busy">Encrypt with a new key</el-button></template></el-popconfirm>
      <code class="soft">lantern secrets rotate</code>
      <span role="status">{{ said }}</span>
    </p>
  </template>

  <h2>This browser</h2>
  <div class="card pad">
    <p class="doing">Colours <el-select :model-value="chosen" size="small" style="width: 190px" aria-label="Colours" @update:model-value="(t: Theme) => choose(t)"><el-option v-for="t in themes" :key="t.value" :value="t.value" :label="t.label" /></el-select> <span class="soft">Times are in the zone {{ zone }}{{ zone === 'UTC' ? '' : '; point at one for UTC' }}.</span></p>
    <p v-if="!views.length" class="soft">No view is kept here: lists have a button <b>Views</b> for that.</p>
    <ul v-else class="kept">
      <li v-for="v in views" :key="v.name"><router-link :to="v.path">{{ v.name }}</router-link> <span class="mono soft">{{ v.path }}</span> <el-button text size="small" :aria-label="`Forget the view ${v.name}`" @click="drop(v.name)">Forget</el-button></li>
    </ul>
  </div>
</template>

<style scoped>
.kept {
  list-style: none;
  margin: 0;
  padding: 0;
}
.pad {
  padding: 2px 14px 8px;
}
</style>
