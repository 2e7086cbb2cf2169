<script setup lang="ts">
// Who may sign in, who is told, and inviting a host.
import { computed, ref, watch } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { useActing } from '../acting'
import { client, told, type Schemas } from '../api'
import Asked from '../parts/Asked.vue'
import Copy from '../parts/Copy.vue'
import Moment from '../parts/Moment.vue'
import Trouble from '../parts/Trouble.vue'
import { useMayChange, useSession } from '../role'
import { count } from '../words'

const mayChange = useMayChange()
const session = useSession()
const operators = useQuery({ queryKey: ['operators'], queryFn: () => told(client.GET('/api/operators')), refetchInterval: 60_000 })
const webhooks = useQuery({ queryKey: ['webhooks'], queryFn: () => told(client.GET('/api/webhooks')) })
const { error, busy, act } = useActing()

const name = ref('')
const role = ref<'reader' | 'operator'>('reader')
// Of somebody who signs in already, the role stays unless another is chosen.
const known = computed(() => operators.data.value?.items.find((o) => o.name === name.value.trim()))
watch(known, (o) => { role.value = o?.role ?? 'reader' })
const made = ref<Schemas['Operator'] | null>(null)
const add = () => act(async () => {
  made.value = await told(client.POST('/api/operators', { body: { name: name.value.trim(), role: role.value } }))
  name.value = ''
  await operators.refetch()
})
const leaving = ref('')
const remove = () => act(async () => {
  await told(client.DELETE('/api/operators/{name}', { params: { path: { name: leaving.value } } }))
  leaving.value = ''
  await operators.refetch()
})

const host = ref('')
const invited = ref<Schemas['Invite'] | null>(null)
const invite = () => act(async () => {
  invited.value = await told(client.POST('/api/invites', { body: { host: host.value.trim() } }))
  host.value = ''
})
const address = window.location.origin

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Person = NonNullable<typeof operators.data.value>['items'][number]
type Hook = NonNullable<typeof webhooks.data.value>['items'][number]
</script>

<template>
  <div class="head"><h1 v-if="operators.data.value">{{ count(operators.data.value.total, 'person or program', 'people and programs') }} may sign in</h1></div>
  <Asked :of="[operators, webhooks]" />
  <Trouble class="told" :error="error" />
  <div v-if="operators.data.value" class="card">
    <el-table :data="operators.data.value.items" row-key="name">
      <el-table-column label="Name" prop="name" min-width="200" />
      <el-table-column label="May" min-width="220"><template #default="{ row }: { row: Person }">{{ row.role === 'reader' ? 'look (reader)' : 'look and change (operator)' }}</template></el-table-column>
      <el-table-column label="Since" width="170"><template #default="{ row }: { row: Person }"><Moment :at="row.created" day /></template></el-table-column>
      <el-table-column v-if="mayChange" label="Action" width="220" align="right">
        <template #default="{ row }: { row: Person }">
          <span v-if="row.name === session.data.value?.operator" class="soft">that is you</span>
          <template v-else-if="leaving === row.name"><el-button size="small" @click="leaving = ''">Not now</el-button><el-button size="small" type="primary" :loading="busy" @click="remove">Take away</el-button></template>
          <el-button v-else text size="small" @click="leaving = row.name">Take away</el-button>
        </template>
      </el-table-column>
    </el-table>
  </div>
  <template v-if="mayChange">
    <form class="doing" @submit.prevent="add">
      <el-input v-model="name" placeholder="Name" aria-label="Name of who may sign in" style="width: 220px" />
      <el-select v-model="role" style="width: 190px" aria-label="Role"><el-option value="reader" label="reader: looks" /><el-option value="operator" label="operator: changes" /></el-select>
      <el-button native-type="submit" :disabled="!name.trim()" :loading="busy">{{ known ? 'Give a new token' : 'Let sign in' }}</el-button>
      <span v-if="known" class="soft">The token that <b>{{ known.name }}</b> has ends.</span>
      <code v-else class="soft">lantern operator add NAME --role {{ role }}</code>
    </form>
    <p v-if="made" class="card once" role="status"><b>{{ made.name }}</b> signs in with this token, shown this once: <span class="mono">{{ made.token }}</span> <Copy :text="made.token ?? ''" what="the token" /></p>

    <h2 id="invite">Invite a host</h2>
    <form class="doing" @submit.prevent="invite">
      <el-input v-model="host" placeholder="gw-07.brinewick.test" aria-label="Full name of the host" style="width: 300px" />
      <el-button native-type="submit" :disabled="!host.includes('.')" :loading="busy">Make a token</el-button>
      <code class="soft">lantern host invite NAME</code>
    </form>
    <div v-if="invited" class="card once" role="status">
      On {{ invited.host }}, as root, until <Moment :at="invited.expires" />; it works once, and pins this service's key:
      <pre class="mono">lantern-agent join --service {{ address }} --token {{ invited.token }}
lantern-agent run</pre>
      <Copy :text="`lantern-agent join --service ${address} --token ${invited.token}\nlantern-agent run`" what="the commands" />
    </div>
  </template>
  <p v-else class="soft">As a reader you look; an operator lets others sign in and invites hosts.</p>

  <h2 id="webhooks">Who is told of what happens</h2>
  <div v-if="webhooks.data.value?.items.length" class="card">
    <el-table :data="webhooks.data.value.items" row-key="id">
      <el-table-column label="No." prop="id" width="70" align="right" />
      <el-table-column label="Address" min-width="300"><template #default="{ row }: { row: Hook }"><span class="mono">{{ row.url }}</span></template></el-table-column>
      <el-table-column label="Of" min-width="200"><template #default="{ row }: { row: Hook }">{{ (row.about ?? []).join(', ') || 'all' }}</template></el-table-column>
    </el-table>
  </div>
  <p v-else-if="webhooks.data.value" class="soft">Nobody yet: <code>lantern webhook add URL</code></p>
</template>

<style scoped>
.once {
  padding: 10px 14px;
  overflow-wrap: anywhere;
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
