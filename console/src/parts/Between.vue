<script setup lang="ts">
// What of a host is another at one moment than it was at an earlier one.
import { computed, ref } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { client, told, type Schemas } from '../api'
import { clock, count, short } from '../words'
import Moment from './Moment.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ name: string; moments: Schemas['Moment'][] }>()
const from = ref<string>()
const to = ref<string>('')
const most = 200
const choices = computed(() => props.moments.map((m) => ({ at: m.at, says: `${clock(m.at)}, ${m.what}` })))
const differs = useQuery({
  queryKey: computed(() => ['host', props.name, 'between', from.value, to.value]),
  queryFn: () => told(client.GET('/api/hosts/{name}/between', { params: { path: { name: props.name }, query: { from: from.value ?? '', to: to.value || undefined, per_page: most } } })),
  enabled: computed(() => !!from.value),
  retry: false,
})
</script>

<template>
  <div class="card pad">
    <div class="pick">
      <span>What is another since</span>
      <el-select v-model="from" size="small" clearable placeholder="choose a moment" aria-label="The earlier moment"><el-option v-for="c in choices" :key="c.at" :value="c.at" :label="c.says" /></el-select>
      <span>until</span>
      <el-select v-model="to" size="small" clearable placeholder="now" aria-label="The later moment"><el-option v-for="c in choices" :key="c.at" :value="c.at" :label="c.says" /></el-select>
      <code v-if="from" class="soft" title="The same on the command line">lantern host compare {{ short(props.name) }} --from {{ from }}{{ to ? ` --to ${to}` : '' }}</code>
    </div>
    <Trouble :error="from ? differs.error.value : null" />
    <template v-if="from && differs.data.value">
      <p class="soft">
        From revision {{ differs.data.value.from_revision || '–' }}, so since <Moment :at="differs.data.value.from_since" />, to revision {{ differs.data.value.to_revision || '–' }}, so since <Moment :at="differs.data.value.to_since" />:
        <b aria-live="polite">{{ differs.data.value.total ? count(differs.data.value.total, 'piece differs', 'pieces differ') : 'nothing is another that its surveys tell' }}</b>
      </p>
      <ul v-if="differs.data.value.total" class="pieces">
        <li v-for="(p, i) in differs.data.value.items" :key="i">
          <b>{{ p.kind }}</b> <span class="mono">{{ p.name }}</span> <span v-if="p.file && p.file !== p.name" class="soft mono">{{ p.file }}</span>
          <template v-if="p.field"> · {{ p.field }}</template>
          <div v-if="p.was" class="mono bad">− {{ p.was }}</div>
          <div v-if="p.is" class="mono good">+ {{ p.is }}</div>
        </li>
        <li v-if="differs.data.value.total > differs.data.value.items.length" class="soft">{{ differs.data.value.total - differs.data.value.items.length }} more</li>
      </ul>
    </template>
  </div>
</template>

<style scoped>
.pick {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px;
}
.pick .el-select {
  width: 290px;
}
.pieces {
  list-style: none;
  margin: 0;
  padding: 0;
}
.pieces > li {
  padding: 6px 0;
  border-top: 1px solid var(--line);
  overflow-wrap: anywhere;
}
</style>
