<script setup lang="ts">
// The proposals that are open, each with what it lacks.
import type { Schemas } from '../api'
import { useNow } from '../now'
import { ago, count } from '../words'

defineProps<{ list: Schemas['Proposal'][]; here: number }>()
const emit = defineEmits<{ show: [number: number] }>()
const now = useNow()
</script>

<template>
  <section class="card proposals" aria-label="Proposals">
    <b>{{ count(list.length, 'proposal is open', 'proposals are open') }}</b>
    <ul>
      <li v-for="p in list" :key="p.number" :class="{ here: p.number === here }">
        <a href="#" :aria-current="p.number === here ? 'true' : undefined" @click.prevent="emit('show', p.number)">Proposal {{ p.number }}</a>
        by {{ p.author }}, {{ ago(p.created, now) }}: {{ p.message }}
        <span v-if="p.lacks" class="warn">! lacks {{ p.lacks.replace(/^to be /, 'being ') }}</span>
        <span v-else-if="p.agreed" class="good">= {{ p.agreed }} agreed</span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.proposals {
  padding: 8px 14px;
  margin-top: 12px;
}
ul {
  margin: 4px 0 0;
  padding: 0;
  list-style: none;
}
li {
  overflow-wrap: anywhere;
}
.here a {
  font-weight: 700;
}
</style>
