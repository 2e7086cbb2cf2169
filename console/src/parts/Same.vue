<script setup lang="ts">
// What does the same on the command line.
const props = defineProps<{ command: string }>()
</script>

<template>
  <p class="soft">The same on the command line: <code>{{ props.command }}</code></p>
</template>
