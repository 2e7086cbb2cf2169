<script setup lang="ts">
// A YAML file in an editor, with what the service says is wrong with it where it stands.
import { autocompletion, type CompletionContext } from '@codemirror/autocomplete'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { Compartment, EditorState } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { basicSetup } from 'codemirror'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

const props = defineProps<{ text: string; readonly?: boolean; words: string[]; marks: { line: number; column: number; severity: string; message: string }[] }>()
const emit = defineEmits<{ change: [text: string] }>()
const box = ref<HTMLElement>()
let view: EditorView | undefined
const writable = new Compartment()

// Names of the policy and keys of its language are completed.
function complete(c: CompletionContext) {
  const word = c.matchBefore(/[\w-]+/)
  if (!word && !c.explicit) return null
  return { from: word?.from ?? c.pos, options: props.words.map((label) => ({ label })), validFor: /^[\w-]*$/ }
}

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
        yaml(),
        syntaxHighlighting(colours),
        lintGutter(),
        look,
        EditorView.contentAttributes.of({ 'aria-label': 'Text of the file' }),
        autocompletion({ override: [complete] }),
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
