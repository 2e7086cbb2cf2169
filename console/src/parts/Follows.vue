<script setup lang="ts">
// Which choice of a channel groups follow. Another one is two clicks, and one word of the folder.
import { computed } from 'vue'
import { choicesOf, followsOf, moved, type Follows, type Texts } from '../policy'

const props = defineProps<{ files: Texts; mayChange: boolean }>()
const emit = defineEmits<{ change: [file: string, text: string] }>()
const rows = computed(() => followsOf(props.files).map((f) => ({ ...f, choices: choicesOf(props.files, f.channel) })))
const move = (f: Follows, choice: string) => emit('change', f.file, moved(props.files, f, choice))
</script>

<template>
  <template v-if="rows.length">
    <h2 id="follows">Who follows what</h2>
    <ul class="card follows">
      <li v-for="f in rows" :key="`${f.file} ${f.index} ${f.channel}`">
        <span><b>{{ f.to }}</b> <span class="soft">in channel</span> {{ f.channel }} <span class="soft">follow{{ f.to.includes(',') ? '' : 's' }}</span></span>
        <el-select v-if="mayChange" :model-value="f.choice" size="small" :aria-label="`Choice of ${f.channel} for ${f.to}`" @update:model-value="(c: string) => move(f, c)">
          <el-option v-for="c in f.choices" :key="c" :value="c" :label="c" />
        </el-select>
        <b v-else>{{ f.choice }}</b>
      </li>
    </ul>
  </template>
</template>

<style scoped>
.follows {
  list-style: none;
  margin: 0;
  padding: 4px 14px;
  columns: 2;
  column-gap: 40px;
}
li {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 12px;
  padding: 4px 0;
  break-inside: avoid;
}
.el-select {
  width: 150px;
  flex: none;
}
@media (max-width: 900px) {
  .follows {
    columns: 1;
  }
}
</style>
