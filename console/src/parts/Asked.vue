<script setup lang="ts">
// What a page asks the service for: why it could not be shown, or, where nothing has come yet and it takes longer than a
// blink, that it is awaited.
import { computed } from 'vue'
import Trouble from './Trouble.vue'

type Held<T> = { readonly value: T }
type Asked = { error: Held<Error | null>; data: Held<unknown>; isLoading?: Held<boolean> } // without the last, it is something done
const props = defineProps<{ of: Asked[] }>()
const error = computed(() => props.of.map((x) => x.error.value).find((e) => e) ?? null)
const awaited = computed(() => !error.value && props.of.every((x) => x.data.value === undefined) && props.of.some((x) => x.isLoading?.value))
</script>

<template>
  <Trouble :error="error" />
  <div v-if="awaited" role="status"><span class="unseen">The service is being asked</span><el-skeleton :throttle="300" animated :rows="6" /></div>
</template>
