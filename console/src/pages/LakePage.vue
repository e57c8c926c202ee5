<script setup lang="ts">
/** A table of a lake: its states, how one of them is put together, partitions, files and properties. */
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { errorBody, type ErrorBody } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import LakeCare from '../components/LakeCare.vue'
import LakeHistory from '../components/LakeHistory.vue'
import LakePartitions from '../components/LakePartitions.vue'
import LakeWalk from '../components/LakeWalk.vue'
import type { Name, State } from '../lake/history'
import { count } from '../plan/numbers'
import { quoted } from '../query/names'
import { literal, rowsOf } from '../query/rows'

interface Property { kind: string; name: string; value: string | null }
interface Partition { partition: string; files: number; rows: number; bytes: number; files_of_deleted_rows: number }

const route = useRoute()
const router = useRouter()
const full = computed(() => [route.params.catalog, route.params.schema, route.params.table].map((p) => quoted(String(p))).join('.'))
const states = ref<State[] | null>(null)
const names = ref<Name[]>([])
const properties = ref<Property[]>([])
const partitions = ref<Partition[]>([])
const chosen = ref<string | null>(null)
const error = ref<ErrorBody | null>(null)

const state = computed(() => states.value?.find((s) => s.snapshot === chosen.value) ?? null)
/** A name under which the chosen state can be walked: the present one has the table's own. */
const named = computed(() => {
  if (!state.value) return null
  if (state.value.is_current) return full.value
  const name = names.value.find((n) => n.snapshot === chosen.value)?.name
  return name ? [route.params.catalog, route.params.schema, `${String(route.params.table)}@${name}`].map((p) => quoted(String(p))).join('.') : null
})
const told = (name: string) => properties.value.find((p) => p.kind === 'table' && p.name === name)?.value ?? ''
const what = computed(() => names.value.filter((n) => n.snapshot === chosen.value).map((n) => n.name).join(', ') || state.value?.operation || 'state')

/** `again` keeps what is shown until there is something newer. */
async function load(again = false) {
  if (route.name !== 'lake') return
  const table = literal(full.value)
  if (!again) states.value = chosen.value = null
  error.value = null
  try {
    const text = (column: string) => `${column}::text AS ${column}`
    const [s, n, p, all] = await Promise.all([
      rowsOf<State>(`SELECT ${text('snapshot')}, ${text('parent')}, ${text('at')}, operation, is_current, files_added, files_removed, rows_added, rows_removed, files, rows FROM lake_snapshots(${table}) ORDER BY at`),
      rowsOf<Name>(`SELECT name, kind, ${text('snapshot')} FROM lake_refs(${table})`),
      rowsOf<Property>(`SELECT * FROM lake_properties(${table})`),
      rowsOf<Partition>(`SELECT * FROM lake_partitions(${table})`),
    ])
    names.value = n
    properties.value = p
    partitions.value = all
    states.value = s
    chosen.value = s.find((own) => own.is_current)?.snapshot ?? s.at(-1)?.snapshot ?? null
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
}

function ask() {
  const at = state.value?.is_current ? '' : ` FOR VERSION AS OF ${chosen.value}`
  router.push({ name: 'query', query: { sql: `SELECT *\nFROM ${full.value}${at}\nLIMIT 100` } })
}
/** What the chosen state has added and taken away. */
const changed = computed(() => {
  const { rows_added, rows_removed, files_added, files_removed } = state.value ?? {}
  const of = (what: string, more?: number | null, less?: number | null) =>
    more || less ? `${what} ${[more ? `+${count(more)}` : '', less ? `−${count(less)}` : ''].filter(Boolean).join(' ')}` : ''
  return [of('rows', rows_added, rows_removed), of('files', files_added, files_removed)].filter(Boolean).join(', ') || 'the same rows'
})
watch(() => route.fullPath, () => load(), { immediate: true })
</script>

<template>
  <div class="page">
    <div class="page-head">
      <h1 class="mono"><RouterLink :to="{ name: 'table', params: route.params }">{{ full }}</RouterLink></h1>
      <span v-if="states" class="faint">{{ told('partitioned by') ? `partitioned by ${told('partitioned by')}` : 'not partitioned' }}{{ told('ordered by') ? `, ordered by ${told('ordered by')}` : '' }}</span>
      <Button label="Query at this point" icon="pi pi-code" size="small" :disabled="!state" @click="ask" />
    </div>
    <ErrorNote v-if="error" :error="error" class="gap" />
    <p v-if="!states && !error" class="faint">Loading…</p>
    <p v-if="states && !states.length" class="faint">The table has never had rows.</p>
    <section v-if="states?.length" class="panel gap">
      <h2>History</h2>
      <LakeHistory :states="states" :names="names" :chosen="chosen" @choose="chosen = $event" />
      <p v-if="state" class="told">
        <strong>{{ state.operation }}</strong> of {{ state.at.slice(0, 19) }}: {{ count(state.rows ?? 0) }} rows in {{ count(state.files ?? 0) }} files
        <span class="faint">({{ changed }})</span>
      </p>
    </section>
    <section v-if="state" class="panel gap">
      <h2>How it is put together</h2>
      <LakeWalk v-if="named" :table="named" :metadata="told('metadata file')" :state="state.snapshot" :what="what" />
      <p v-else class="faint">This state has no name, so that its files are not listed. <code>CALL lake_tag({{ literal(full) }}, 'name', '{{ chosen }}')</code> gives it one.</p>
    </section>
    <section v-if="partitions.length" class="panel gap">
      <h2>Partitions</h2>
      <LakePartitions :partitions="partitions" />
    </section>
    <section v-if="states" class="panel gap">
      <h2>Care</h2>
      <LakeCare :table="full" @done="load(true)" />
    </section>
    <section v-if="properties.length" class="panel">
      <h2>Properties</h2>
      <table class="plain-table">
        <tbody>
          <tr v-for="p in properties" :key="`${p.kind} ${p.name}`"><td :class="{ mono: p.kind === 'property' }">{{ p.name }}</td><td class="mono">{{ p.value ?? '' }}</td></tr>
        </tbody>
      </table>
    </section>
  </div>
</template>

<style scoped>
.gap { margin-bottom: 0.9rem; }
.told { margin: 0.5rem 0 0; }
h1.mono { font-size: 1.1rem; }
</style>
