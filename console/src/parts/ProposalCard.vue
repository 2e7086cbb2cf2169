<script setup lang="ts">
// What a proposal says otherwise than the revision that it was made on, and what can be done with it.
import { computed } from 'vue'
import { useActing } from '../acting'
import { client, told, type Schemas } from '../api'
import { useNow } from '../now'
import { ago } from '../words'
import Same from './Same.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ proposal: Schemas['Proposal']; me: string; may: boolean }>()
const emit = defineEmits<{ became: [revision: number]; ended: [] }>()
const now = useNow()
const { error, busy, act } = useActing()
const open = computed(() => props.proposal.state === 'open')
const mine = computed(() => props.proposal.author === props.me)
const path = computed(() => ({ params: { path: { number: props.proposal.number } } }))
const sign: Record<string, string> = { added: '+', removed: '-', changed: '~' }
const tone: Record<string, string> = { added: 'good', removed: 'bad', changed: 'warn' }

const agree = () => act(() => told(client.POST('/api/proposals/{number}/agree', path.value)))
const publish = () => act(async () => emit('became', (await told(client.POST('/api/proposals/{number}/publish', path.value))).number))
const withdraw = () =>
  act(async () => {
    await told(client.DELETE('/api/proposals/{number}', path.value))
    emit('ended')
  })
</script>

<template>
  <div class="proposal">
    <p><b>{{ proposal.message }}</b></p>
    <p class="soft">proposed by {{ proposal.author }}, {{ ago(proposal.created, now) }}<template v-if="proposal.agreed">; agreed by {{ proposal.agreed }}</template></p>
    <p v-if="proposal.state === 'published'" class="good">= it became revision {{ proposal.revision }}</p>
    <p v-else-if="!open" class="soft">it was withdrawn</p>
    <p v-else-if="proposal.lacks" class="warn">! It lacks {{ proposal.lacks.replace(/^to be /, 'being ') }}.</p>
    <ul v-if="proposal.differences?.length" aria-label="What it says otherwise">
      <li v-for="(d, i) in proposal.differences" :key="i"><b :class="tone[d.kind]">{{ sign[d.kind] }}</b> {{ d.what }}<template v-if="d.part">, {{ d.part }}</template><template v-if="d.before || d.after">: <span v-if="d.before" class="bad">{{ d.before }}</span><template v-if="d.before && d.after"> → </template><span v-if="d.after" class="good">{{ d.after }}</span></template></li>
    </ul>
    <p v-else class="soft">It means the same as revision {{ proposal.base }}.</p>
    <Trouble :error="error" />
    <div v-if="open && may" class="buttons">
      <el-button v-if="!mine && !proposal.agreed && !proposal.stale" type="primary" :loading="busy" @click="agree">Agree</el-button>
      <el-button v-if="!proposal.lacks" type="primary" :loading="busy" @click="publish">Publish it</el-button>
      <el-button :loading="busy" @click="withdraw">Withdraw it</el-button>
    </div>
    <p v-if="open && may && mine && !proposal.agreed" class="soft">Somebody else agrees: an operator who signs in under another name.</p>
    <Same :command="`lantern proposal show ${proposal.number}`" />
  </div>
</template>

<style scoped>
.proposal {
  border-bottom: 1px solid var(--line);
  margin-bottom: 8px;
}
p {
  margin: 4px 0;
}
ul {
  padding-left: 16px;
  margin: 4px 0;
  list-style: none;
}
.buttons {
  margin: 8px 0;
}
</style>
