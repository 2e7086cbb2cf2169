<script setup lang="ts">
// Says why something could not be shown.
import { Refusal } from '../api'

defineProps<{ error: Error | null }>()
</script>

<template>
  <el-alert v-if="error" type="error" :closable="false" show-icon :title="error.message">
    <div v-for="d in error instanceof Refusal ? error.details : []" :key="d" class="mono">{{ d }}</div>
  </el-alert>
</template>
