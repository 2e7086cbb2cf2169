<script setup lang="ts">
// One host of a rollout, with how it goes in a line.
import type { Schemas } from '../api'
import { editWord, progressLook, short } from '../words'
import Mark from './Mark.vue'

const props = defineProps<{ host: Schemas['HostProgress']; skippable?: boolean }>()
const emit = defineEmits<{ skip: [host: string] }>()
const states = ['queued', 'waiting', 'behind'] // in which a host can be left out
</script>

<template>
  <div class="line host">
    <Mark class="mark" :look="progressLook[props.host.state]" :word="props.host.state" />
    <router-link class="name" :to="{ name: 'host', params: { name: props.host.host } }">{{ short(props.host.host) }}</router-link>
    <span v-if="props.host.state === 'behind'" class="warn">gives no sign of life; the others went on, and it catches up when it comes back</span>
    <span v-else-if="props.host.state === 'working'" class="soft">at {{ props.host.report?.step }}</span>
    <span v-else-if="props.host.state === 'queued'" class="soft">in wave {{ props.host.wave }}</span>
    <span v-else-if="props.host.report?.message && props.host.state !== 'failed'" class="warn">{{ props.host.report.message }}</span>
    <span v-else-if="props.host.report?.message" class="bad">at {{ props.host.report.step }}: {{ props.host.report.message }}<template v-if="props.host.report.undone"> (put back as it was)</template></span>
    <span v-else class="soft">{{ (props.host.report?.edits ?? []).map((e) => `${editWord(e.action)} ${e.path.split('/').at(-1)}`).join(', ') || (props.host.state === 'unchanged' ? 'nothing to change' : '') }}</span>
    <el-button v-if="props.skippable && states.includes(props.host.state)" class="skips" size="small" text @click="emit('skip', props.host.host)">Skip</el-button>
  </div>
</template>

<style scoped>
.line {
  display: flex;
  gap: 18px;
  align-items: baseline;
}
.host {
  padding-top: 4px;
}
.host > :not(.mark, .name, .skips) {
  flex: 1 1 0;
  min-width: 0;
  overflow-wrap: anywhere;
}
@media (max-width: 700px) {
  .line {
    flex-wrap: wrap;
    gap: 0 18px;
  }
  .host > :not(.mark, .name, .skips) {
    flex-basis: 100%;
  }
}
.mark {
  width: 120px;
  flex: none;
}
.name {
  width: 90px;
  flex: none;
}
.skips {
  margin-left: auto;
}
</style>
