<script setup lang="ts">
/** Care for a lake's table: what each kind of it would do, and doing it. */
import Button from 'primevue/button'
import { computed, onUnmounted, ref, watch } from 'vue'

import { errorBody, get, part, post, remove, type ErrorBody, type PageBody, type RunBody } from '../api/client'
import { seconds } from '../plan/numbers'
import { literal } from '../query/rows'
import ErrorNote from './ErrorNote.vue'

const props = defineProps<{ table: string }>()
const emit = defineEmits<{ done: [] }>()

const KINDS = [
  { call: 'lake_compact', label: 'Compact', about: 'puts small files of a partition together, without the rows that are gone' },
  { call: 'lake_rewrite_manifests', label: 'Rewrite manifests', about: 'puts manifests together, those of neighbouring partitions side by side' },
  { call: 'lake_expire', label: 'Expire states', about: 'ends states older than five days that have no name, and removes the files that only they had' },
  { call: 'lake_remove_orphans', label: 'Remove orphans', about: 'removes files older than three days that no state has' },
]
type Kind = (typeof KINDS)[number]

const chosen = ref<Kind | null>(null)
/** What a call has told, by column; of several rows there are too many to show. */
const told = ref<{ columns: string[]; rows: unknown[][]; more: boolean } | null>(null)
const isDone = ref(false)
/** A call that counts nothing has nothing to do. */
const isIdle = computed(() => !told.value?.rows.some((row) => row.some((v) => v !== null && Number(v) !== 0)))
const run = ref<RunBody | null>(null)
const error = ref<ErrorBody | null>(null)
let isLeft = false
onUnmounted(() => { isLeft = true })

async function call(kind: Kind, dry: boolean) {
  chosen.value = kind
  isDone.value = false
  told.value = error.value = null
  try {
    let now = await post<RunBody>('/runs', { statement: `CALL ${kind.call}(${literal(props.table)}${dry ? ', dry_run => true' : ''})` })
    run.value = now
    while (now.state === 'running' && !isLeft) {
      await new Promise((wake) => setTimeout(wake, 300))
      now = await get<RunBody>(`/runs/${part(now.id)}`)
      run.value = now
    }
    run.value = null
    if (now.error) error.value = now.error
    if (now.state !== 'finished') return
    const page = await get<PageBody>(`/runs/${part(now.id)}/rows?limit=20`)
    told.value = { columns: page.columns.map((c) => c.name.replaceAll('_', ' ')), rows: page.rows, more: !page.last }
    isDone.value = !dry
    if (!dry) emit('done')
  } catch (thrown) {
    run.value = null
    error.value = errorBody(thrown)
  }
}
async function stop() {
  if (run.value) await remove(`/runs/${part(run.value.id)}`)
}
watch(() => props.table, () => { chosen.value = told.value = error.value = null })
</script>

<template>
  <div class="kinds">
    <Button v-for="k in KINDS" :key="k.call" :label="`${k.label}…`" :title="k.about" size="small" severity="secondary" :outlined="k.call !== chosen?.call" :disabled="run !== null" @click="call(k, true)" />
  </div>
  <p v-if="!chosen" class="faint">Each one tells first what it would do.</p>
  <p v-else class="faint">{{ chosen.label }} {{ chosen.about }}.</p>
  <p v-if="run" class="goes" role="status">
    <i class="pi pi-spin pi-spinner" /> {{ run.waits ? 'waits for its turn' : run.progress.doing ?? 'at work' }}, {{ seconds(run.progress.seconds) }}
    <Button label="Stop" size="small" text @click="stop" />
  </p>
  <ErrorNote v-if="error" :error="error" />
  <template v-if="told && chosen">
    <p v-if="isIdle">{{ isDone ? 'There was nothing to do.' : 'There is nothing to do.' }}</p>
    <table v-else class="plain-table">
      <thead><tr><th v-for="c in told.columns" :key="c">{{ c }}</th></tr></thead>
      <tbody><tr v-for="(row, i) in told.rows" :key="i"><td v-for="(v, k) in row" :key="k" class="mono">{{ v ?? '' }}</td></tr></tbody>
    </table>
    <p v-if="told.more" class="faint">and more</p>
    <p v-if="isDone" class="done"><i class="pi pi-check" /> done</p>
    <Button v-else-if="!isIdle" :label="`${chosen.label} now`" size="small" class="now" @click="call(chosen, false)" />
  </template>
</template>

<style scoped>
.kinds { display: flex; gap: 0.5rem; flex-wrap: wrap; }
p { margin: 0.5rem 0; }
.goes { display: flex; gap: 0.5rem; align-items: center; }
.done { color: var(--accent); }
.now { margin-top: 0.5rem; }
</style>
