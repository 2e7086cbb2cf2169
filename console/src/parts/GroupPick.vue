<script setup lang="ts">
// Picks groups of the policy. Which there are is asked when somebody opens it: a large fleet has
// to be counted for that.
import { ref } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { client, told } from '../api'
import { number } from '../words'

defineProps<{ modelValue: string[] }>()
const emit = defineEmits<{ change: [groups: string[]] }>()
const opened = ref(false)
const groups = useQuery({ queryKey: ['groups'], queryFn: () => told(client.GET('/api/groups', { params: { query: { per_page: 1000 } } })), enabled: opened })
</script>

<template>
  <el-select
    :model-value="modelValue"
    multiple
    collapse-tags
    clearable
    placeholder="All groups"
    aria-label="Groups"
    :loading="opened && groups.isPending.value"
    @visible-change="(v: boolean) => (opened ||= v)"
    @change="(v: string[]) => emit('change', v)"
  >
    <el-option v-for="g in groups.data.value?.items ?? []" :key="g.name" :value="g.name" :label="`${g.name} (${number(g.hosts)})`" />
  </el-select>
</template>
