<script setup lang="ts">
// A moment in the viewer's zone; exactly, in UTC, to whoever points at it.
import { clock, exact } from '../words'

const props = defineProps<{ at: string | null | undefined }>()
</script>

<template><time v-if="props.at" :datetime="props.at" :title="exact(props.at)">{{ clock(props.at) }}</time><span v-else>–</span></template>
