<script setup lang="ts">
/** How a state of a table is put together, as a way that can be walked: from the table down to the row groups of a file. */
import { computed, ref, watch } from 'vue'

import { errorBody, type ErrorBody } from '../api/client'
import { fileName } from '../lake/history'
import { bytes, count } from '../plan/numbers'
import { literal, rowsOf } from '../query/rows'
import ErrorNote from './ErrorNote.vue'

const props = defineProps<{ table: string; metadata: string; state: string; what: string }>()

interface Manifest { path: string; bytes: number; content: string; files_added: number | null; files_kept: number | null; rows_added: number | null; rows_kept: number | null; partitions: string | null }
interface File { path: string; format: string; content: string; partition: string; rows: number; bytes: number; manifest: string }
interface Chunk { row_group: number; column_name: string; rows: number; bytes: number | null; encodings: string | null; least: string | null; greatest: string | null; nulls: number | null }

/** Boxes of a column; of more there are too many to look at. */
const MOST = 60
const manifests = ref<Manifest[]>([])
const files = ref<File[]>([])
const chunks = ref<Chunk[]>([])
const manifest = ref<string | null>(null)
const file = ref<string | null>(null)
const group = ref<number | null>(null)
const waits = ref(false)
const error = ref<ErrorBody | null>(null)

const there = (m: Manifest) => (m.files_added ?? 0) + (m.files_kept ?? 0)
const groups = computed(() => {
  const all = new Map<number, { rows: number; bytes: number }>()
  for (const c of chunks.value) all.set(c.row_group, { rows: c.rows, bytes: (all.get(c.row_group)?.bytes ?? 0) + (c.bytes ?? 0) })
  return [...all].map(([place, own]) => ({ place, ...own }))
})
const columns = computed(() => chunks.value.filter((c) => c.row_group === group.value))

async function ask(work: () => Promise<void>) {
  error.value = null
  waits.value = true
  try {
    await work()
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
  waits.value = false
}

function begin() {
  files.value = []
  chunks.value = []
  manifest.value = file.value = group.value = null
  void ask(async () => {
    manifests.value = await rowsOf<Manifest>(`SELECT * FROM lake_manifests(${literal(props.table)})`)
    if (manifests.value.length) walkTo(manifests.value[0].path)
  })
}

function walkTo(path: string) {
  manifest.value = path
  file.value = group.value = null
  chunks.value = []
  void ask(async () => {
    files.value = await rowsOf<File>(`SELECT * FROM lake_files(${literal(props.table)}) WHERE manifest = ${literal(path)} ORDER BY partition, path`)
  })
}

function open(own: File) {
  file.value = own.path
  group.value = null
  chunks.value = []
  if (own.content !== 'rows') return
  void ask(async () => {
    const name = literal(`%${fileName(own.path)}`)
    chunks.value = await rowsOf<Chunk>(`SELECT row_group, column_name, rows, bytes, encodings, least, greatest, nulls FROM row_group_stats(${literal(props.table)}) WHERE file LIKE ${name} ORDER BY row_group`)
    group.value = groups.value[0]?.place ?? null
  })
}
watch(() => props.table, begin, { immediate: true })
</script>

<template>
  <ErrorNote v-if="error" :error="error" />
  <div class="walk" :aria-busy="waits">
    <div class="column">
      <h3>table</h3>
      <div class="box on"><strong class="mono">{{ table }}</strong><span class="mono">{{ metadata }}</span></div>
    </div>
    <div class="column">
      <h3>state</h3>
      <div class="box on"><strong>{{ what }}</strong><span class="mono">{{ state }}</span></div>
    </div>
    <div class="column">
      <h3>{{ manifests.length }} manifest{{ manifests.length === 1 ? '' : 's' }}</h3>
      <button v-for="m in manifests.slice(0, MOST)" :key="m.path" type="button" class="box" :class="{ on: m.path === manifest }" :aria-pressed="m.path === manifest" :title="m.path" @click="walkTo(m.path)">
        <strong>{{ there(m) }} file{{ there(m) === 1 ? '' : 's' }} of {{ m.content }}</strong>
        <span>{{ count((m.rows_added ?? 0) + (m.rows_kept ?? 0)) }} rows, itself {{ bytes(m.bytes) }}</span>
        <span class="faint">{{ m.partitions }}</span>
      </button>
      <p v-if="manifests.length > MOST" class="faint">and {{ manifests.length - MOST }} more</p>
    </div>
    <div class="column">
      <h3>{{ files.length }} file{{ files.length === 1 ? '' : 's' }}</h3>
      <button v-for="f in files.slice(0, MOST)" :key="f.path" type="button" class="box" :class="{ on: f.path === file }" :aria-pressed="f.path === file" :title="f.path" @click="open(f)">
        <strong>{{ f.partition || fileName(f.path) }}</strong>
        <span>{{ count(f.rows) }} {{ f.content }}, {{ bytes(f.bytes) }} of {{ f.format }}</span>
      </button>
      <p v-if="files.length > MOST" class="faint">and {{ files.length - MOST }} more</p>
    </div>
    <div class="column">
      <h3>row groups</h3>
      <p v-if="!file" class="faint">choose a file</p>
      <button v-for="g in groups" :key="g.place" type="button" class="box" :class="{ on: g.place === group }" :aria-pressed="g.place === group" @click="group = g.place">
        <strong>row group {{ g.place }}</strong><span>{{ count(g.rows) }} rows, {{ bytes(g.bytes) }}</span>
      </button>
    </div>
  </div>
  <table v-if="columns.length" class="plain-table chunks">
    <thead><tr><th>column</th><th class="number">bytes</th><th>encodings</th><th>least</th><th>greatest</th><th class="number">nulls</th></tr></thead>
    <tbody>
      <tr v-for="c in columns" :key="c.column_name">
        <td class="mono">{{ c.column_name }}</td><td class="number">{{ c.bytes == null ? '' : bytes(c.bytes) }}</td><td class="faint">{{ c.encodings }}</td>
        <td class="mono cut">{{ c.least }}</td><td class="mono cut">{{ c.greatest }}</td><td class="number">{{ c.nulls ?? '' }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.walk { display: grid; grid-template-columns: 1.1fr 1fr 1.3fr 1.3fr 1fr; gap: 1.6rem; align-items: start; }
.column { display: flex; flex-direction: column; gap: 0.4rem; max-height: 23rem; overflow: auto; padding: 2px; position: relative; }
.column + .column h3::before { content: "→ "; color: var(--accent); }
.column h3 { font-size: 0.85rem; font-weight: 600; color: var(--faint); margin: 0 0 0.2rem; position: sticky; top: 0; background: var(--panel); }
.box { display: flex; flex-direction: column; gap: 0.1rem; text-align: left; font: inherit; font-size: 12.5px; color: inherit; background: var(--panel); border: 1px solid var(--line); border-radius: 6px; padding: 0.35rem 0.55rem; overflow-wrap: anywhere; }
button.box { cursor: pointer; }
button.box:hover, button.box:focus-visible { border-color: var(--accent); }
.box.on { border-color: var(--accent); background: var(--accent-soft); }
.box .mono { font-size: 11px; }
.chunks { margin-top: 0.9rem; }
.cut { max-width: 15rem; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
</style>
