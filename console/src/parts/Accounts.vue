<script setup lang="ts">
// The organisation's accounts at vendors' desks. A login goes to the service and is never shown again.
import { ref } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { useActing } from '../acting'
import { client, told } from '../api'
import { useNow } from '../now'
import { ago, exact, progressLook } from '../words'
import Mark from './Mark.vue'
import Trouble from './Trouble.vue'

defineProps<{ mayChange: boolean }>()
const now = useNow()
const accounts = useQuery({ queryKey: ['accounts'], queryFn: () => told(client.GET('/api/accounts')) })
const { error, busy, act: pressed } = useActing()
const act = (what: () => Promise<unknown>) => pressed(async () => {
  await what()
  await accounts.refetch()
})
const fresh = ref({ name: '', desk: '', login: '', password: '' })
const adding = ref(false)

const add = () => act(async () => {
  await told(client.POST('/api/accounts', { body: { ...fresh.value } }))
  fresh.value = { name: '', desk: '', login: '', password: '' }
  adding.value = false
})
const remove = (name: string) => act(() => told(client.DELETE('/api/accounts/{name}', { params: { path: { name } } })))
const whole = () => Object.values(fresh.value).every((v) => v.trim() !== '')

// What stands in a row of a table, so that its columns are checked against the service's answers.
type Row = NonNullable<typeof accounts.data.value>['items'][number]
</script>

<template>
  <h2 id="accounts">Accounts at vendors' desks</h2>
  <Trouble :error="accounts.error.value" />
  <Trouble class="told" :error="error" />
  <div v-if="accounts.data.value?.items.length" class="card">
    <el-table :data="accounts.data.value.items" row-key="name">
      <el-table-column label="Account" width="150"><template #default="{ row }: { row: Row }"><b>{{ row.name }}</b></template></el-table-column>
      <el-table-column label="Desk" min-width="260"><template #default="{ row }: { row: Row }"><span class="mono">{{ row.desk }}</span></template></el-table-column>
      <el-table-column label="Contracts" prop="contracts" width="110" align="right" />
      <el-table-column label="Seats" prop="seats" width="80" align="right" />
      <el-table-column label="The desk" min-width="220">
        <template #default="{ row }: { row: Row }">
          <Mark v-if="row.trouble" :look="progressLook.failed" word="does not answer" />
          <span v-else :title="exact(row.answered)">{{ row.answered ? `answered ${ago(row.answered, now)}` : 'was not asked yet' }}</span>
        </template>
      </el-table-column>
      <el-table-column v-if="mayChange" label="Action" width="120" align="right">
        <template #default="{ row }: { row: Row }">
          <span v-if="row.seats" class="soft" title="Release its seats first">has seats</span>
          <el-popconfirm v-else :title="`Forget the account ${row.name} and its login?`" confirm-button-text="Forget it" cancel-button-text="Keep it" width="260" @confirm="remove(row.name)"><template #reference><el-button text size="small" :loading="busy">Forget</el-button></template></el-popconfirm>
        </template>
      </el-table-column>
    </el-table>
  </div>
  <template v-if="mayChange">
    <p v-if="!adding" class="doing"><el-button size="small" @click="adding = true">Add an account</el-button> <code class="soft">lantern account add NAME --desk URL --login NAME</code></p>
    <form v-else class="doing" autocomplete="off" @submit.prevent="add">
      <el-input v-model="fresh.name" placeholder="Name, as the policy has it" aria-label="Name of the account" style="width: 270px" />
      <el-input v-model="fresh.desk" placeholder="https://desk.gannet.example" aria-label="Address of the desk" style="width: 250px" />
      <el-input v-model="fresh.login" placeholder="Login" aria-label="Login at the desk" style="width: 140px" />
      <el-input v-model="fresh.password" type="password" placeholder="Password" aria-label="Password at the desk" autocomplete="new-password" style="width: 150px" />
      <el-button native-type="submit" type="primary" :disabled="!whole()" :loading="busy">Add it</el-button>
      <el-button @click="adding = false">Not now</el-button>
      <span class="soft">Where the account is known already, this is a new login for it.</span>
    </form>
  </template>
</template>
