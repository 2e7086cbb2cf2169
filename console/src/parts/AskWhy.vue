<script setup lang="ts">
// Asks for a reason, and for a last day where there is one, before something is accepted.
import { ref } from 'vue'
import Same from './Same.vue'
import '../weeks'

const props = defineProps<{ title: string; text: string; verb: string; day?: boolean; busy?: boolean; same?: string }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [why: string, until: Date] }>()
const why = ref('')
const inMonth = () => new Date(Date.now() + 30 * 86_400_000)
const until = ref(inMonth())
const soon = (d: Date) => d.getTime() < Date.now() || d.getTime() > Date.now() + 365 * 86_400_000
</script>

<template>
  <el-dialog v-model="open" :title="props.title" width="520" @closed="why = ''">
    <p class="text">{{ props.text }}</p>
    <el-input v-model="why" type="textarea" :rows="2" maxlength="500" placeholder="Why? It is kept beside your name." aria-label="Why" class="why" />
    <div v-if="props.day" class="day">until <el-date-picker v-model="until" type="date" :clearable="false" :disabled-date="soon" aria-label="Last day" /></div>
    <Same v-if="props.same" :command="props.same" />
    <template #footer>
      <el-button @click="open = false">Not now</el-button>
      <el-button type="primary" :disabled="why.trim().length < 3" :loading="props.busy" @click="emit('done', why.trim(), until)">{{ props.verb }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.text {
  margin: 0 0 12px;
}
.day {
  margin-top: 12px;
}
</style>
