<script setup lang="ts">
// One thing that a list of hosts says of a host.
import { useNow } from '../now'
import type { Host } from '../api'
import Mark from './Mark.vue'
import { ago, exact, stateLook } from '../words'

defineProps<{ host: Host; part: string }>()
const now = useNow()
</script>

<template>
  <router-link v-if="part === 'name'" :to="{ name: 'host', params: { name: host.name } }" :title="host.name" @click.stop>{{ host.name }}</router-link>
  <Mark v-else-if="part === 'state'" :look="stateLook[host.state]" :word="host.state" />
  <template v-else-if="part === 'detail'">
    <b v-if="host.old_agent" class="warn" title="It understands less than this service may say to it: bring it up to date">old agent; </b>
    <b v-if="host.worst === 'danger'" class="bad">{{ host.state === 'drifted' ? '!! danger: ' : '!! danger is found; ' }}</b>{{ host.detail }}
  </template>
  <template v-else-if="part === 'os'">{{ host.os }}</template>
  <template v-else-if="part === 'revision'">{{ host.revision || '–' }}</template>
  <span v-else :title="exact(host.last_seen)">{{ ago(host.last_seen, now) }}</span>
</template>
