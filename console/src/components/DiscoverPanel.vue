<script setup lang="ts">
/** A look for tables in a catalog's files: what was found, with names and types to correct before it is defined. */
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import { computed, onUnmounted, ref } from 'vue'

import { errorBody, get, part, post, remove, type ErrorBody, type FoundTableBody, type LookBody, type LookingBody } from '../api/client'
import { bytes } from '../plan/numbers'
import { joined, parted, type Part } from '../query/columns'
import ErrorNote from './ErrorNote.vue'

const props = defineProps<{ catalog: string }>()
const emit = defineEmits<{ defined: [] }>()

interface Row { found: FoundTableBody; wanted: boolean; name: string; columns: Part[]; open: boolean }

const path = ref('')
const schema = ref('')
const every = ref('')
const look = ref<LookBody | null>(null)
const rows = ref<Row[]>([])
const busy = ref(false)
const error = ref<ErrorBody | null>(null)
const progress = ref<LookingBody | null>(null)
const place = computed(() => `/catalogs/${part(props.catalog)}/discover`)
let timer: ReturnType<typeof setInterval> | undefined
onUnmounted(() => clearInterval(timer))
const drift = computed(() => (look.value?.drift ?? []).filter((d) => d.change !== 'new table' && d.change !== 'problem'))
const chosen = computed(() => rows.value.filter((row) => row.wanted))

async function ask(call: () => Promise<void>) {
  busy.value = true
  error.value = null
  progress.value = null
  // Between the look's end and its answer there is nothing to be told of.
  timer = setInterval(() => get<LookingBody>(place.value).then((now) => { progress.value = now }, () => {}), 400)
  try {
    await call()
  } catch (thrown) {
    error.value = errorBody(thrown)
  } finally {
    clearInterval(timer)
    busy.value = false
  }
}
const values = (row: Row, column: string) => (row.found.sample?.find((c) => c.name === column)?.values ?? []).map((v) => v ?? '∅').join(', ')
const stop = () => remove<LookingBody>(place.value).catch(() => {})

const where = () => ({ path: path.value.trim(), schema: schema.value.trim() || undefined })
const find = () => ask(async () => {
  look.value = await post<LookBody>(place.value, { ...where(), preview: true })
  rows.value = look.value.tables.map((found) => ({
    found,
    wanted: !found.problem && found.state !== 'same',
    name: found.name,
    columns: (found.definition.columns ?? []).map(parted),
    open: false,
  }))
})
const define = () => ask(async () => {
  const tables = Object.fromEntries(chosen.value.map((row) => [row.name.trim(), { ...row.found.definition, columns: row.columns.map(joined) }]))
  const again = every.value.trim() ? Number(every.value) : undefined
  await post<LookBody>(place.value, { ...where(), tables, every: again })
  look.value = null
  emit('defined')
})
</script>

<template>
  <section class="panel" aria-label="Discover tables">
    <h2>Discover</h2>
    <form class="ask" @submit.prevent="find">
      <label>Below <InputText v-model="path" size="small" placeholder="all files" aria-label="Path below the connection's address" /></label>
      <label>Schema <InputText v-model="schema" size="small" placeholder="from the folders" aria-label="Schema for new tables" /></label>
      <Button type="submit" label="Look for tables" icon="pi pi-search" size="small" :loading="busy && !look" />
      <Button v-if="busy" label="Stop" icon="pi pi-times" size="small" severity="secondary" outlined @click="stop" />
      <span v-if="busy" class="faint" role="status">{{ progress?.files ? `looked into ${progress.looked} of ${progress.files} files` : 'listing files' }}</span>
    </form>
    <p v-if="!look && !error" class="faint">Files are sorted into tables by folder, format and columns. Nothing is defined before you have seen it.</p>
    <ErrorNote v-if="error" :error="error" />
    <template v-if="look">
      <table class="plain-table">
        <thead><tr><th></th><th>table</th><th>format</th><th class="number">files</th><th class="number">size</th><th class="number">columns</th><th>state</th></tr></thead>
        <tbody v-for="row in rows" :key="row.found.name">
          <tr>
            <td><Checkbox v-model="row.wanted" binary :disabled="!!row.found.problem" :aria-label="`Define ${row.found.name}`" /></td>
            <td><InputText v-model="row.name" size="small" :aria-label="`Name of ${row.found.name}`" /></td>
            <td>{{ row.found.definition.format }}<span v-if="row.found.partitions.length" class="faint"> by {{ row.found.partitions.join(', ') }}</span></td>
            <td class="number">{{ row.found.files }}</td><td class="number">{{ bytes(row.found.bytes) }}</td>
            <td class="number"><button type="button" class="link" :aria-expanded="row.open" :aria-label="`Columns of ${row.found.name}`" @click="row.open = !row.open">{{ row.columns.length + row.found.partitions.length }} <i :class="row.open ? 'pi pi-chevron-up' : 'pi pi-chevron-down'" /></button></td>
            <td :class="{ kept: row.found.state === 'changed', failure: row.found.problem }">{{ row.found.problem ? 'problem' : row.found.state }}</td>
          </tr>
          <tr v-if="row.found.problem || row.found.notes.length || row.open" class="more">
            <td></td>
            <td colspan="6">
              <p v-if="row.found.problem" class="failure">{{ row.found.problem }}</p>
              <p v-for="note in row.found.notes" :key="note" class="faint">{{ note }}</p>
              <div v-if="row.open" class="columns">
                <label v-for="column in row.columns" :key="column.name">{{ column.name }} <InputText v-model="column.type" size="small" :aria-label="`Type of ${row.found.name}.${column.name}`" /> <span class="faint values">{{ values(row, column.name) }}</span></label>
              </div>
            </td>
          </tr>
        </tbody>
      </table>
      <ul v-if="drift.length" class="drift" aria-label="Changes"><li v-for="d in drift" :key="d.table + d.change + d.detail"><span class="kept">{{ d.change }}</span> {{ d.table }}: {{ d.detail }}</li></ul>
      <p v-if="look.others.length" class="faint">No data: {{ look.others.join(', ') }}</p>
      <div class="ask">
        <label>Look again every <InputText v-model="every" size="small" class="short" inputmode="numeric" placeholder="–" aria-label="Seconds between looks" /> s</label>
        <Button :label="`Define ${chosen.length} ${chosen.length === 1 ? 'table' : 'tables'}`" icon="pi pi-check" size="small" :disabled="!chosen.length" :loading="busy" @click="define" />
      </div>
    </template>
  </section>
</template>

<style scoped>
.ask { display: flex; gap: 0.9rem; align-items: center; flex-wrap: wrap; margin: 0.4rem 0; }
.short { width: 5rem; }
table { width: 100%; margin: 0.4rem 0; }
.plain-table .number { text-align: right; }
.more p { margin: 0.1rem 0; }
.columns { display: flex; flex-wrap: wrap; gap: 0.3rem 1.2rem; }
.columns label { display: flex; gap: 0.4rem; align-items: center; font-family: var(--mono); font-size: 12px; }
.values { max-width: 20rem; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.link { background: none; border: 0; color: var(--accent); cursor: pointer; font: inherit; padding: 0; }
.kept { color: var(--kept); }
.failure { color: var(--failure); }
.drift { list-style: none; margin: 0.4rem 0; padding: 0; }
</style>
