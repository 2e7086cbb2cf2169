<script setup lang="ts">
// A file of the policy in an editor, YAML or a key, with what the service says is wrong with it where it stands.
import { autocompletion, type Completion, type CompletionContext } from '@codemirror/autocomplete'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { Compartment, EditorState } from '@codemirror/state'
import { EditorView, hoverTooltip } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { basicSetup } from 'codemirror'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import schema from '../../../docs/policy.schema.json'
import { offersAt, tellsAt, whereTyped, type Texts } from '../policy'

const props = defineProps<{ text: string; file: string; readonly?: boolean; files: Texts; words: string[]; marks: { line: number; column: number; severity: string; message: string }[] }>()
const emit = defineEmits<{ change: [text: string] }>()
const box = ref<HTMLElement>()
let view: EditorView | undefined
const writable = new Compartment()

// What may stand here by the policy's language and its own names comes first; other words of the
// folder come after it.
function complete(c: CompletionContext) {
  const word = c.matchBefore(/[\w.-]+/)
  if (!word && !c.explicit) return null
  const from = word?.from ?? c.pos
  const body = c.state.doc.toString()
  const where = whereTyped(body, from, c.pos)
  const offers = where ? offersAt(schema, where, { ...props.files, [props.file]: body }) : []
  const types = { key: 'property', word: 'keyword', name: 'variable' }
  const options: Completion[] = offers.map((o) => ({ label: o.label, info: o.detail, type: types[o.kind], boost: 50 }))
  const others = props.words.filter((w) => !offers.some((o) => o.label === w)).map((label) => ({ label }))
  return { from, options: [...options, ...others], validFor: /^[\w.-]*$/ }
}

// What a key means, and what a name stands for and where, is told to whoever points at it.
const hover = hoverTooltip((v, pos) => {
  const told = tellsAt(schema, v.state.doc.toString(), pos, props.files)
  if (!told) return null
  const dom = document.createElement('div')
  dom.className = 'told'
  if (told.says) dom.append(Object.assign(document.createElement('p'), { textContent: told.says }))
  if (told.named) {
    dom.append(Object.assign(document.createElement('p'), { textContent: `${told.named.file}:${told.named.line}`, className: 'soft' }))
    dom.append(Object.assign(document.createElement('pre'), { textContent: told.named.text.split('\n').slice(0, 12).join('\n') }))
  }
  return { pos, above: true, create: () => ({ dom }) }
})

const look = EditorView.theme({
  '&': { fontSize: '13px', backgroundColor: 'var(--card)', color: 'var(--ink)', height: '62vh' },
  '.cm-content': { fontFamily: 'var(--mono)', caretColor: 'var(--ink)' },
  '.cm-gutters': { backgroundColor: 'var(--paper)', color: 'var(--soft)', borderRight: '1px solid var(--line)' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'var(--el-color-primary-light-9)' },
  '&.cm-focused': { outline: '2px solid var(--amber)' },
  '.cm-tooltip': { backgroundColor: 'var(--card)', color: 'var(--ink)', border: '1px solid var(--line)' },
  '.cm-tooltip-autocomplete > ul > li[aria-selected]': { backgroundColor: 'var(--amber)', color: 'var(--card)' },
})

const colours = HighlightStyle.define([
  { tag: tags.comment, color: 'var(--soft)', fontStyle: 'italic' },
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--busy)' },
  { tag: tags.string, color: 'var(--good)' },
  { tag: [tags.number, tags.bool, tags.keyword, tags.atom], color: 'var(--warn)' },
])

function mark() {
  if (!view) return
  const doc = view.state.doc
  const list: Diagnostic[] = props.marks.map((m) => {
    const line = doc.line(Math.min(Math.max(1, m.line), doc.lines))
    const from = Math.min(line.from + Math.max(0, m.column - 1), line.to)
    return { from, to: line.to > from ? line.to : from, severity: m.severity === 'error' ? 'error' : 'warning', message: m.message }
  })
  view.dispatch(setDiagnostics(view.state, list))
}

onMounted(() => {
  view = new EditorView({
    parent: box.value,
    state: EditorState.create({
      doc: props.text,
      extensions: [
        basicSetup,
        props.file.endsWith('.yaml') ? yaml() : [],
        syntaxHighlighting(colours),
        lintGutter(),
        look,
        EditorView.contentAttributes.of({ 'aria-label': 'Text of the file' }),
        autocompletion({ override: [complete] }),
        hover,
        writable.of(EditorState.readOnly.of(props.readonly === true)),
        EditorView.updateListener.of((u) => u.docChanged && emit('change', u.state.doc.toString())),
      ],
    }),
  })
  view.scrollDOM.tabIndex = 0 // what scrolls can be scrolled by keys
  mark()
})
onBeforeUnmount(() => view?.destroy())
watch(() => props.text, (text) => {
  if (view && view.state.doc.toString() !== text) view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } })
})
watch(() => props.readonly, (r) => view?.dispatch({ effects: writable.reconfigure(EditorState.readOnly.of(r === true)) }))
watch(() => props.marks, mark)
</script>

<template><div ref="box" class="editor card"></div></template>

<style>
.cm-tooltip .told {
  max-width: 560px;
  padding: 6px 10px;
}
.cm-tooltip .told p {
  margin: 2px 0;
}
.cm-tooltip .told pre {
  margin: 4px 0 0;
  font: 13px var(--mono);
  white-space: pre-wrap;
}
</style>
