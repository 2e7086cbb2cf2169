<script setup lang="ts">
// A moment in the viewer's zone; exactly, in UTC, to whoever points at it.
import { clock, date, exact } from '../words'

// day leaves the time of day to whoever points at it.
const props = defineProps<{ at: string | null | undefined; day?: boolean }>()
</script>

<template><time v-if="props.at" :datetime="props.at" :title="exact(props.at)">{{ props.day ? date(props.at) : clock(props.at) }}</time><span v-else>–</span></template>
