<script setup lang="ts">
import Button from 'primevue/button'
import { onActivated, onBeforeUnmount, onDeactivated, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { errorBody, get, remove, type ErrorBody, type RunBody } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import { bytes, count, seconds } from '../plan/numbers'

const router = useRouter()
const runs = ref<RunBody[] | null>(null)
const error = ref<ErrorBody | null>(null)
let timer = 0

async function load() {
  try {
    runs.value = await get<RunBody[]>('/runs?most=200')
    error.value = null
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
}
async function stop(id: string) {
  try {
    await remove(`/runs/${id}`)
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
  await load()
}
const when = (text: string) => new Date(text).toLocaleString(undefined, { dateStyle: 'short', timeStyle: 'medium' })
/** Asked again while somebody may be looking. */
function watchRuns() {
  window.clearInterval(timer)
  load()
  timer = window.setInterval(() => { if (document.visibilityState === 'visible') load() }, 2000)
}
const leave = () => window.clearInterval(timer)
onMounted(watchRuns)
onActivated(watchRuns)
onDeactivated(leave)
onBeforeUnmount(leave)
</script>

<template>
  <div class="page">
    <div class="page-head"><h1>Runs</h1><span class="faint">what is being executed, and what was</span></div>
    <ErrorNote v-if="error" :error="error" />
    <p v-if="!runs && !error" class="faint">Loading…</p>
    <p v-if="runs && !runs.length" class="panel">Nothing has been run yet. <RouterLink to="/query">Write a query</RouterLink>.</p>
    <table v-if="runs?.length" class="plain-table panel">
      <thead><tr><th>run</th><th>state</th><th>started</th><th class="number">time</th><th class="number">rows out</th><th class="number">rows crossed</th><th class="number">bytes</th><th>statement</th><th /></tr></thead>
      <tbody>
        <tr v-for="r in runs" :key="r.id" class="link" @click="router.push(`/runs/${r.id}`)">
          <td class="mono"><RouterLink :to="`/runs/${r.id}`" @click.stop>{{ r.id }}</RouterLink></td>
          <td :class="['state', r.state]">{{ r.waits ? 'waiting' : r.state }}</td><td>{{ when(r.started_at) }}</td>
          <td class="number">{{ seconds(r.progress.seconds) }}</td><td class="number">{{ count(r.progress.rows_out) }}</td><td class="number">{{ count(r.progress.rows_read) }}</td><td class="number">{{ bytes(r.progress.bytes_read) }}</td>
          <td class="mono statement" :title="r.statement">{{ r.statement.replace(/\s+/g, ' ') }}</td>
          <td><Button v-if="r.state === 'running'" label="Stop" size="small" severity="danger" text @click.stop="stop(r.id)" /></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.statement { max-width: 26rem; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.state.finished { color: var(--accent); }
.state.failed { color: var(--failure); }
.state.cancelled, .state.lost { color: var(--kept); }
</style>
