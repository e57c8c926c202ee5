<script setup lang="ts">
/** The row groups of a table's files, and which of them a condition reads. */
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'

import { errorBody, type ErrorBody } from '../api/client'
import { bytes, count } from '../plan/numbers'
import { literal, rowsOf } from '../query/rows'
import ErrorNote from './ErrorNote.vue'

const props = defineProps<{ table: string }>()

interface Group { file: string; row_group: number; rows: number; bytes: number | null; is_read: boolean | null; why: string | null }
interface Chunk { column_name: string; bytes: number | null; packing: string | null; encodings: string | null; least: string | null; greatest: string | null; nulls: number | null }

/** Of more there are too many to look at. */
const MOST = 500
const filter = ref('')
const asked = ref('')
const groups = ref<Group[] | null>(null)
const chosen = ref<Group | null>(null)
const chunks = ref<Chunk[]>([])
const waits = ref(false)
const error = ref<ErrorBody | null>(null)

const facts = computed(() => `row_group_stats(${literal(props.table)}${asked.value ? `, filter => ${literal(asked.value)}` : ''})`)
const read = computed(() => (groups.value ?? []).filter((g) => g.is_read).length)
const short = (file: string) => file.split('/').slice(-2).join('/')

async function ask<T>(statement: string, into: (rows: T[]) => void, most?: number) {
  error.value = null
  waits.value = true
  try {
    into(await rowsOf<T>(statement, most))
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
  waits.value = false
}

async function show() {
  asked.value = filter.value.trim()
  chosen.value = null
  chunks.value = []
  await ask<Group>(
    `SELECT file, row_group, max(rows) AS rows, sum(bytes)::bigint AS bytes, bool_and(is_read) AS is_read, max(why) AS why FROM ${facts.value} GROUP BY file, row_group ORDER BY bool_and(is_read) DESC NULLS LAST, file, row_group`,
    (rows) => { groups.value = rows },
    MOST + 1,
  )
}

function open(group: Group) {
  chosen.value = group
  void ask<Chunk>(
    `SELECT column_name, bytes, packing, encodings, least, greatest, nulls FROM ${facts.value} WHERE file = ${literal(group.file)} AND row_group = ${group.row_group}`,
    (rows) => { chunks.value = rows },
  )
}
watch(() => props.table, () => { groups.value = chosen.value = error.value = null; filter.value = '' })
</script>

<template>
  <form class="asks" @submit.prevent="show">
    <InputText v-model="filter" size="small" placeholder="a condition, such as fare > 20" aria-label="Condition" class="mono condition" />
    <Button type="submit" label="Show row groups" size="small" severity="secondary" :loading="waits" />
    <span v-if="groups && asked" class="faint">{{ count(read) }} of {{ groups.length > MOST ? `more than ${MOST}` : count(groups.length) }} row groups are read</span>
    <span v-else-if="groups" class="faint">{{ groups.length > MOST ? `more than ${MOST}` : count(groups.length) }} row groups</span>
  </form>
  <ErrorNote v-if="error" :error="error" />
  <div v-if="groups?.length" class="groups">
    <table class="plain-table">
      <thead><tr><th>file</th><th class="number">row group</th><th class="number">rows</th><th class="number">bytes</th><th v-if="asked">read</th><th v-if="asked">why</th></tr></thead>
      <tbody>
        <tr v-for="g in groups.slice(0, MOST)" :key="`${g.file} ${g.row_group}`" :class="{ on: g === chosen, out: g.is_read === false }">
          <td><button type="button" class="mono link" :title="g.file" @click="open(g)">{{ short(g.file) }}</button></td>
          <td class="number">{{ g.row_group }}</td><td class="number">{{ count(g.rows) }}</td><td class="number">{{ g.bytes == null ? '' : bytes(g.bytes) }}</td>
          <td v-if="asked"><i :class="g.is_read ? 'pi pi-check' : 'pi pi-minus'" :aria-label="g.is_read ? 'read' : 'not read'" /></td><td v-if="asked" class="why">{{ g.why }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <template v-if="chosen && chunks.length">
    <h3>Row group {{ chosen.row_group }} of <span class="mono">{{ short(chosen.file) }}</span></h3>
    <table class="plain-table">
      <thead><tr><th>column</th><th class="number">bytes</th><th>packing</th><th>encodings</th><th>least</th><th>greatest</th><th class="number">nulls</th></tr></thead>
      <tbody>
        <tr v-for="c in chunks" :key="c.column_name">
          <td class="mono">{{ c.column_name }}</td><td class="number">{{ c.bytes == null ? '' : bytes(c.bytes) }}</td><td class="faint">{{ c.packing }}</td><td class="faint">{{ c.encodings }}</td>
          <td class="mono cut">{{ c.least }}</td><td class="mono cut">{{ c.greatest }}</td><td class="number">{{ c.nulls ?? '' }}</td>
        </tr>
      </tbody>
    </table>
  </template>
</template>

<style scoped>
.asks { display: flex; gap: 0.6rem; align-items: center; margin-bottom: 0.6rem; }
.condition { flex: 0 1 26rem; }
.groups { max-height: 19rem; overflow: auto; }
.link { background: none; border: none; padding: 0; color: var(--accent); cursor: pointer; font-size: inherit; }
.on { background: var(--accent-soft); }
.out { color: var(--faint); }
.why { max-width: 34rem; }
.cut { max-width: 14rem; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
h3 { font-size: 0.9rem; margin: 0.8rem 0 0.3rem; }
</style>
