<script setup lang="ts">
/** The text of a query: highlighted, with completion of names, and errors marked where they are. */
import { autocompletion, closeBrackets, completeFromList, completionKeymap } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { PostgreSQL, schemaCompletionSource, type SQLNamespace } from '@codemirror/lang-sql'
import { HighlightStyle, LanguageSupport, bracketMatching, syntaxHighlighting } from '@codemirror/language'
import { setDiagnostics } from '@codemirror/lint'
import { Compartment, EditorState, Prec } from '@codemirror/state'
import { EditorView, keymap, lineNumbers, placeholder } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'

import type { ErrorBody, FunctionBody } from '../api/client'
import { functionCompletions, keywordsBeside } from '../query/completion'

const props = defineProps<{ error?: ErrorBody | null; names: SQLNamespace; functions: FunctionBody[] }>()
const text = defineModel<string>({ required: true })
const emit = defineEmits<{ run: [] }>()
const host = ref<HTMLElement>()
const view = shallowRef<EditorView>()
const language = new Compartment()

const colours = HighlightStyle.define([
  { tag: tags.keyword, color: 'var(--accent)', fontWeight: '600' },
  { tag: [tags.string, tags.number], color: 'var(--kept)' },
  { tag: tags.comment, color: 'var(--faint)', fontStyle: 'italic' },
])

const sqlWith = (names: SQLNamespace, functions: FunctionBody[]) => {
  const sources = [schemaCompletionSource({ dialect: PostgreSQL, schema: names }), completeFromList(functionCompletions(functions)), keywordsBeside(functions)]
  return new LanguageSupport(PostgreSQL.language, sources.map((autocomplete) => PostgreSQL.language.data.of({ autocomplete })))
}

onMounted(() => {
  view.value = new EditorView({
    parent: host.value!,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        Prec.highest(keymap.of([{ key: 'Mod-Enter', run: () => (emit('run'), true) }])),
        lineNumbers(),
        history(),
        bracketMatching(),
        closeBrackets(),
        autocompletion({ icons: false }),
        keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap, indentWithTab]),
        language.of(sqlWith(props.names, props.functions)),
        syntaxHighlighting(colours),
        placeholder('SELECT …   (Ctrl+Enter runs it)'),
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ 'aria-label': 'SQL text' }),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) text.value = u.state.doc.toString()
        }),
      ],
    }),
  })
})
onBeforeUnmount(() => view.value?.destroy())

watch(text, (next) => {
  const v = view.value
  if (v && v.state.doc.toString() !== next) v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: next } })
})
watch(
  () => [props.names, props.functions] as const,
  ([names, functions]) => view.value?.dispatch({ effects: language.reconfigure(sqlWith(names, functions)) }),
)
watch(
  () => props.error,
  (error) => {
    const v = view.value
    if (!v) return
    const place = error?.position
    if (!error || !place || place.line > v.state.doc.lines) {
      v.dispatch(setDiagnostics(v.state, []))
      return
    }
    const line = v.state.doc.line(place.line)
    const from = Math.min(line.from + place.column - 1, line.to)
    const word = /^[\w.]+/.exec(v.state.sliceDoc(from, line.to))
    const to = Math.min(from + Math.max(word?.[0].length ?? 1, 1), line.to)
    v.dispatch(setDiagnostics(v.state, [{ from, to, severity: 'error', message: error.hint ? `${error.message}; ${error.hint}` : error.message }]))
  },
)

function insert(piece: string) {
  const v = view.value
  if (!v) return
  v.dispatch(v.state.replaceSelection(piece))
  v.focus()
}
defineExpose({ insert })
</script>

<template><div ref="host" class="editor" /></template>

<style scoped>
.editor { height: 100%; overflow: hidden; background: var(--panel); }
.editor :deep(.cm-editor) { height: 100%; font-family: var(--mono); font-size: 13px; }
.editor :deep(.cm-focused) { outline: none; }
.editor :deep(.cm-scroller) { font-family: var(--mono); }
.editor :deep(.cm-gutters) { background: var(--panel); color: var(--faint); border: none; }
.editor :deep(.cm-cursor) { border-left-color: var(--text); }
.editor :deep(.cm-lintRange-error) { background: var(--failure-soft); text-decoration: underline wavy var(--failure); }
.editor :deep(.cm-tooltip-autocomplete > ul > li[aria-selected]) { background: var(--accent); color: var(--panel); }
.editor :deep(.cm-tooltip) { background: var(--panel); border: 1px solid var(--line); color: var(--text); }
</style>
