<script setup lang="ts">
/** One gate: what the source took over, what it did not and why, and what crossed. */
import type { GateDocument } from '../api/client'
import { bytes, count } from '../plan/numbers'

defineProps<{ gate: GateDocument }>()
type Piece = GateDocument['pieces'][number]
const words = (reason: string) => reason.replaceAll('_', ' ').replace('below kept', 'follows kept work')
const parts = (all: GateDocument['parts']) => all.map((p) => `${p.read} of ${p.total} ${p.parts}`).join(', ')
const why = (p: Piece) => [p.verdict === 'kept' ? words(p.reason) : '', p.note].filter(Boolean).join(': ')
</script>

<template>
  <article class="gate panel" :aria-label="`Gate ${gate.gate}`">
    <header>
      <span class="letter">{{ gate.gate }}</span>
      <strong class="mono">{{ gate.tables.join(' + ') }}</strong>
      <span class="faint">{{ gate.kind }} {{ gate.connection }}<template v-if="gate.region"> · {{ gate.region }}</template></span>
    </header>
    <ul>
      <li v-for="(p, i) in gate.pieces" :key="i">
        <span class="verdict" :class="p.verdict">{{ p.verdict }}</span>
        <span class="what"><span class="mono">{{ p.text.startsWith(p.piece) ? '' : p.piece + ' ' }}{{ p.text }}</span>
          <span v-if="why(p)" class="why">{{ why(p) }}</span></span>
      </li>
    </ul>
    <dl>
      <dt>columns</dt><dd>{{ gate.columns_read.length }} of {{ gate.columns_total }}<span v-if="gate.columns_read.length" class="mono faint"> {{ gate.columns_read.join(', ') }}</span></dd>
      <template v-if="gate.parts.length"><dt>reads</dt><dd>{{ parts(gate.parts) }}</dd></template>
      <dt>request</dt><dd><pre>{{ gate.request.text }}</pre><div v-for="(p, i) in gate.request.parameters ?? []" :key="i" class="mono faint">{{ gate.request.text.includes('?') && !gate.request.text.includes('$1') ? '?' : '$' }}{{ i + 1 }} = {{ p }}</div></dd>
      <dt>estimate</dt><dd>{{ count(gate.estimated_rows) }} rows<template v-if="gate.estimated_bytes">, {{ bytes(gate.estimated_bytes) }}</template></dd>
      <template v-if="gate.measure"><dt>crossed</dt><dd><strong>{{ count(gate.measure.rows) }} rows</strong>, {{ bytes(gate.measure.bytes) }} read<template v-if="gate.measure.rows_skipped">, {{ count(gate.measure.rows_skipped) }} rows in skipped pages</template><template v-if="gate.measure.rows_dropped">, {{ count(gate.measure.rows_dropped) }} rows dropped while decoding</template></dd></template>
      <template v-for="k in gate.measure?.keys ?? []" :key="`${k.join} ${k.column}`"><dt>keys</dt><dd>{{ count(k.keys) }} of step {{ k.join }} for <span class="mono">{{ k.column }}</span>, as {{ k.form }}<template v-if="k.parts_skipped">; {{ count(k.parts_skipped) }} parts not opened</template></dd></template>
      <template v-if="gate.measure?.parts?.length"><dt>found</dt><dd>{{ parts(gate.measure.parts) }}</dd></template>
      <template v-if="gate.measure?.sent"><dt>sent</dt><dd><pre>{{ gate.measure.sent.text }}</pre></dd></template>
    </dl>
  </article>
</template>

<style scoped>
header { display: flex; align-items: baseline; gap: 0.6rem; margin-bottom: 0.5rem; flex-wrap: wrap; }
.letter { background: var(--accent); color: var(--p-primary-contrast-color); border-radius: 4px; padding: 0 0.45rem; font-weight: 700; }
ul { list-style: none; margin: 0 0 0.5rem; padding: 0; }
li { display: flex; gap: 0.6rem; align-items: baseline; padding: 0.12rem 0; }
.verdict { flex: none; width: 58px; text-align: center; border-radius: 3px; font-size: 11.5px; font-weight: 600; background: var(--accent-soft); color: var(--accent); }
.verdict.prunes { background: transparent; outline: 1px solid var(--accent); }
.verdict.kept { background: var(--kept-soft); color: var(--kept); }
.why { color: var(--faint); margin-left: 0.5rem; }
dl { display: grid; grid-template-columns: 74px 1fr; gap: 0.15rem 0.4rem; margin: 0; }
dt { color: var(--faint); }
dd { margin: 0; min-width: 0; }
dd .faint { margin-left: 0.5rem; }
dd div.faint { margin-left: 0; }
pre { margin: 0; white-space: pre-wrap; overflow-wrap: anywhere; }
</style>
