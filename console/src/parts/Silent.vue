<script setup lang="ts">
// Says of how many hosts what is told is what they said before they fell silent.
import { count, short } from '../words'

defineProps<{ hosts?: number; names?: string[] }>()
</script>

<template>
  <span v-if="hosts" class="warn"><b>? {{ count(hosts, 'host is', 'hosts are') }} silent</b><template v-if="names?.length"> ({{ names.map(short).join(', ') }}<template v-if="hosts > names.length"> and {{ hosts - names.length }} more</template>)</template>: what is told of them is what they said last.</span>
</template>
