<script setup lang="ts">
// A unified diff, file by file. Long key blocks are folded until asked for.
import { computed, ref } from 'vue'
import { foldKeys, shownFiles } from '../diff'

const props = defineProps<{ text: string }>()
const whole = ref(false)
const every = computed(() => shownFiles(props.text))
const folded = computed(() => every.value.map((f) => ({ ...f, lines: foldKeys(f.lines) })))
const files = computed(() => (whole.value ? every.value : folded.value))
const foldable = computed(() => folded.value.some((f, i) => f.lines.length !== every.value[i]?.lines.length))

const sign = { add: '+', drop: '−', same: ' ', hunk: ' ' }
</script>

<template>
  <div class="diff">
    <section v-for="f in files" :key="f.name" class="card">
      <header class="mono"><b>{{ f.name }}</b><span class="soft">{{ f.what }}</span></header>
      <div class="body mono">
        <div v-for="(l, i) in f.lines" :key="i" class="line" :class="l.kind"><span class="n">{{ l.n }}</span><span class="s">{{ sign[l.kind] }}</span><span class="t">{{ l.text }}</span></div>
      </div>
    </section>
    <el-button v-if="foldable" text size="small" @click="whole = !whole">{{ whole ? 'Fold the keys' : 'Show every line' }}</el-button>
  </div>
</template>

<style scoped>
section {
  margin: 8px 0;
  overflow: hidden;
}
header {
  display: flex;
  justify-content: space-between;
  padding: 6px 12px;
  border-bottom: 1px solid var(--line);
}
.body {
  overflow-x: auto;
  padding: 4px 0;
}
.line {
  display: flex;
  white-space: pre;
  min-width: max-content;
  line-height: 1.45;
}
.n {
  width: 44px;
  text-align: right;
  color: var(--soft);
  user-select: none;
  flex: none;
}
.s {
  width: 26px;
  text-align: center;
  flex: none;
  font-weight: 700;
}
.t {
  padding-right: 16px;
}
.add {
  background: var(--good-wash);
}
.add .s {
  color: var(--good);
}
.drop {
  background: var(--bad-wash);
}
.drop .s {
  color: var(--bad);
}
.hunk {
  color: var(--soft);
}
</style>
