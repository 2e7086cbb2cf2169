<script setup lang="ts">
// A unified diff, file by file. Long key blocks are folded until asked for.
import { computed, ref } from 'vue'

const props = defineProps<{ text: string }>()
const whole = ref(false)

interface Line {
  kind: 'add' | 'drop' | 'same' | 'hunk'
  text: string
  n: string
}
interface File {
  name: string
  what: string
  lines: Line[]
}

const keyStart = /-----BEGIN (PGP PUBLIC KEY BLOCK|CERTIFICATE)-----/
const keyEnd = /-----END (PGP PUBLIC KEY BLOCK|CERTIFICATE)-----/

const files = computed<File[]>(() => {
  const out: File[] = []
  let from = ''
  let a = 0
  let b = 0
  let left = 0 // lines of the old and of the new text that the hunk still has
  let right = 0
  let folded = 0
  let inKey = false
  const lines = props.text.split('\n')
  if (lines.at(-1) === '') lines.pop()
  for (const line of lines) {
    const file = out.at(-1)
    if (left <= 0 && right <= 0 && line.startsWith('--- ')) {
      from = line.slice(4)
      continue
    }
    if (left <= 0 && right <= 0 && line.startsWith('+++ ')) {
      const to = line.slice(4)
      out.push({ name: to === '/dev/null' ? from : to, what: from === '/dev/null' ? 'new file' : to === '/dev/null' ? 'removed' : 'edited', lines: [] })
      inKey = false
      continue
    }
    if (!file) continue
    const h = /^@@ -(\d+)(?:,(\d+))? \+(\d+)(?:,(\d+))? @@/.exec(line)
    if (left <= 0 && right <= 0 && h) {
      a = Number(h[1])
      left = Number(h[2] ?? 1)
      b = Number(h[3])
      right = Number(h[4] ?? 1)
      if (file.lines.length) file.lines.push({ kind: 'hunk', text: '⋯', n: '' })
      continue
    }
    if (line.startsWith('\\')) {
      file.lines.push({ kind: 'hunk', text: 'no newline at the end of the file', n: '' })
      continue
    }
    const kind = line[0] === '+' ? 'add' : line[0] === '-' ? 'drop' : 'same'
    const n = kind === 'drop' ? a : b
    if (kind !== 'add') {
      a++
      left--
    }
    if (kind !== 'drop') {
      b++
      right--
    }
    if (!whole.value && inKey && !keyEnd.test(line)) {
      folded++
      continue
    }
    if (!whole.value && inKey && keyEnd.test(line)) {
      file.lines.push({ kind: 'hunk', text: `⋯ ${folded} lines of the ${line.includes('CERT') ? 'certificate' : 'key'}`, n: '' })
      inKey = false
    }
    if (keyStart.test(line)) {
      inKey = true
      folded = 0
    }
    file.lines.push({ kind, text: line.slice(1), n: String(n) })
  }
  return out
})

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
    <el-button v-if="whole || files.some((f) => f.lines.some((l) => / lines of the (key|certificate)$/.test(l.text)))" text size="small" @click="whole = !whole">{{ whole ? 'Fold the keys' : 'Show every line' }}</el-button>
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
