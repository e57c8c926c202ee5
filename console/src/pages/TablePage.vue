<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { errorBody, get, part, post, type ErrorBody, type PageBody, type RunBody, type TableBody } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import RowGroups from '../components/RowGroups.vue'
import { bytes, count } from '../plan/numbers'
import { quoted } from '../query/names'
import { shown } from '../query/pages'

const route = useRoute()
const router = useRouter()
const table = ref<TableBody | null>(null)
const sample = ref<PageBody | null>(null)
const error = ref<ErrorBody | null>(null)
/** Sources whose tables are files that may have row groups. */
const hasRowGroups = computed(() => ['files', 's3', 'http', 'lake', 'lake_service', 'lake_rest'].includes(table.value?.source ?? ''))
const full = computed(() => [route.params.catalog, route.params.schema, route.params.table].map((p) => quoted(String(p))).join('.'))

async function load() {
  if (route.name !== 'table') return
  const { catalog, schema, table: name } = route.params as Record<string, string>
  table.value = sample.value = error.value = null
  try {
    table.value = await get<TableBody>(`/catalogs/${part(catalog)}/schemas/${part(schema)}/tables/${part(name)}`)
    const run = await post<RunBody>('/runs', { statement: `SELECT * FROM ${full.value} LIMIT 20`, record: false })
    sample.value = await get<PageBody>(`/runs/${run.id}/rows?limit=20`)
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
}

function write() {
  const columns = (table.value?.columns ?? []).map((c) => quoted(c.name)).join(', ')
  router.push({ name: 'query', query: { sql: `SELECT ${columns}\nFROM ${full.value}\nLIMIT 100` } })
}
const linkTo = (name: string) => `/catalogs/${name.split('.').map(part).join('/')}`
watch(() => route.fullPath, load, { immediate: true })
</script>

<template>
  <div class="page">
    <div class="page-head">
      <h1 class="mono">{{ full }}</h1>
      <span v-if="table" class="faint">{{ table.kind }}<template v-if="table.estimated_rows != null">, about {{ count(table.estimated_rows) }} rows</template><template v-if="table.bytes != null">, {{ bytes(table.bytes) }}</template><template v-if="table.statistics_from"> (by {{ table.statistics_from }})</template></span>
      <span class="buttons">
        <Button v-if="table?.source?.startsWith('lake')" label="States and files" icon="pi pi-sitemap" size="small" severity="secondary" @click="router.push({ name: 'lake', params: route.params })" />
        <Button label="Write me a query" icon="pi pi-code" size="small" :disabled="!table" @click="write" />
      </span>
    </div>
    <ErrorNote v-if="error" :error="error" class="gap" />
    <p v-if="!table && !error" class="faint">Loading…</p>
    <section v-if="table" class="panel gap">
      <h2>Columns</h2>
      <table class="plain-table">
        <thead><tr><th>column</th><th>type</th><th /><th class="number">distinct</th><th>range</th><th class="number">nulls</th><th>notes</th></tr></thead>
        <tbody>
          <tr v-for="c in table.columns" :key="c.name">
            <td class="mono">{{ c.name }}</td><td class="mono">{{ c.type }}</td><td class="faint">{{ c.nullable ? '' : 'not null' }}</td>
            <td class="number">{{ c.distinct != null ? count(c.distinct) : '' }}</td>
            <td class="mono">{{ c.min != null && c.max != null ? `${c.min} … ${c.max}` : '' }}</td>
            <td class="number">{{ c.null_fraction != null ? `${(c.null_fraction * 100).toFixed(0)} %` : '' }}</td>
            <td class="faint">{{ [c.key ? 'key' : '', c.partition ? 'folder' : '', c.partition ? '' : (c.comment ?? '')].filter(Boolean).join(', ') }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <section v-if="hasRowGroups" class="panel gap">
      <h2>Row groups</h2>
      <RowGroups :table="full" />
    </section>
    <section v-if="table?.definition" class="panel gap">
      <h2>Definition</h2>
      <pre class="definition">{{ table.definition }}</pre>
    </section>
    <section v-if="table && (table.reads?.length || table.used_by?.length)" class="panel gap">
      <h2>Lineage</h2>
      <p v-if="table.reads?.length">reads <RouterLink v-for="name in table.reads" :key="name" class="mono name" :to="linkTo(name)">{{ name }}</RouterLink></p>
      <p v-if="table.used_by?.length">read by <RouterLink v-for="name in table.used_by" :key="name" class="mono name" :to="linkTo(name)">{{ name }}</RouterLink></p>
    </section>
    <section v-if="table" class="panel">
      <h2>Sample</h2>
      <p v-if="!sample && !error" class="faint">Reading 20 rows…</p>
      <div v-if="sample" class="scroll">
        <table class="plain-table">
          <thead><tr><th v-for="c in sample.columns" :key="c.name">{{ c.name }}</th></tr></thead>
          <tbody><tr v-for="(row, i) in sample.rows" :key="i"><td v-for="(v, k) in row" :key="k" class="mono cell">{{ v === null ? '∅' : shown(v) }}</td></tr></tbody>
        </table>
      </div>
    </section>
  </div>
</template>

<style scoped>
.buttons { display: flex; gap: 0.5rem; }
.gap { margin-bottom: 0.9rem; }
.scroll { overflow: auto; }
.cell { white-space: nowrap; max-width: 26rem; overflow: hidden; text-overflow: ellipsis; }
.definition { margin: 0; white-space: pre-wrap; }
.name { margin-right: 0.9rem; }
section p { margin: 0.2rem 0; }
h1.mono { font-size: 1.1rem; }
</style>
