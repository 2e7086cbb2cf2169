<script setup lang="ts">
// Findings, each once, and what is done about one wherever it is: healed, or waived with a
// reason and an end.
import { computed, defineAsyncComponent, ref } from 'vue'
import { useActing } from '../acting'
import { client, told, type FindingGroup } from '../api'
import { useMayChange } from '../role'
import { count, short } from '../words'
import Groups from './Groups.vue'
import Trouble from './Trouble.vue'

// Large, with a calendar: they come when somebody presses.
const AskWhy = defineAsyncComponent(() => import('./AskWhy.vue'))
const InWaves = defineAsyncComponent(() => import('./InWaves.vue'))

defineProps<{ groups: FindingGroup[]; brief?: boolean }>()
const emit = defineEmits<{ waived: [] }>()
const mayChange = useMayChange()
const { error, busy, act } = useActing()

function differenceOf(g: FindingGroup) {
  const { class: kind, severity, repository, field, file, line, message, want, have } = g
  return { class: kind, severity, repository, field, file, line, message, want, have }
}

const asking = ref(false)
const of = ref<FindingGroup | null>(null)
function ask(g: FindingGroup) {
  of.value = g
  asking.value = true
}
async function waive(why: string, until: Date) {
  const g = of.value
  if (!g) return
  await act(async () => {
    await told(client.POST('/api/waivers', { body: { finding: differenceOf(g), because: why, ends: until.toISOString() } }))
    emit('waived')
  })
  asking.value = false
}

const healing = ref(false)
const toHeal = ref<FindingGroup | null>(null)
function askHeal(g: FindingGroup) {
  toHeal.value = g
  healing.value = true
}
const sameHeal = computed(() => {
  const g = toHeal.value
  if (!g) return ''
  return g.hosts === 1 ? `lantern heal ${short(g.first)}` : `lantern heal ${g.names.slice(0, 3).map(short).join(' ')}${g.hosts > 3 ? ' …' : ''} --class ${g.class} --yes`
})
</script>

<template>
  <Trouble :error="error" />
  <Groups v-if="groups.length" :groups="groups" :brief="brief" :may-waive="mayChange" @waive="ask" @heal="askHeal" />
  <InWaves v-if="toHeal" v-model="healing" kind="heal" title="Heal this finding wherever it is" :order="{ finding: differenceOf(toHeal) }" :same="sameHeal" />
  <AskWhy
    v-if="of"
    v-model="asking"
    title="Waive this finding"
    :text="`${of.message} — on ${count(of.hosts, 'host', 'hosts')}. It is a finding again when it changes, or when the day has passed.`"
    verb="Waive it"
    :same="`lantern waiver add ${short(of.first)} --class ${of.class}${of.file ? ` --file ${of.file}` : ''} --until 30d --because …${of.hosts > 1 ? ' --everywhere' : ''}`"
    day
    :busy="busy"
    @done="waive"
  />
</template>
