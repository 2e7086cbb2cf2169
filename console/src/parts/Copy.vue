<script setup lang="ts">
// A button that copies a text, and says whether it did: browsers let only pages copy that came
// by TLS or from this machine, and others in an older way if at all.
import { ref } from 'vue'

const props = defineProps<{ text: string; what: string }>()
const says = ref('')

function olderWay(): boolean {
  const box = document.createElement('textarea')
  box.value = props.text
  document.body.append(box)
  box.select()
  try {
    return document.execCommand('copy')
  } catch {
    return false
  } finally {
    box.remove()
  }
}

async function copy() {
  says.value = ''
  const done = await (navigator.clipboard?.writeText(props.text) ?? Promise.reject(new Error('no clipboard'))).then(() => true, olderWay)
  says.value = done ? 'copied' : 'the browser does not let it be copied; mark it and copy it by hand'
}
</script>

<template>
  <el-button text size="small" :aria-label="`Copy ${what}`" @click="copy">Copy</el-button>
  <span class="soft" role="status">{{ says }}</span>
</template>
