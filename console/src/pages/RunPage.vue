<script setup lang="ts">
import Button from 'primevue/button'
import { onBeforeUnmount, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { errorBody, get, remove, type ErrorBody, type RunBody } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import PlanView from '../components/PlanView.vue'
import type { PlanDocument } from '../api/client'
import { bytes, count, seconds } from '../plan/numbers'

const route = useRoute()
const router = useRouter()
const run = ref<RunBody | null>(null)
const plan = ref<PlanDocument | null>(null)
const error = ref<ErrorBody | null>(null)
let timer = 0

async function load() {
  window.clearTimeout(timer)
  if (route.name !== 'run') return
  const id = String(route.params.id)
  try {
    run.value = await get<RunBody>(`/runs/${id}`)
    plan.value = await get<PlanDocument>(`/runs/${id}/plan`).catch(() => null)
    if (run.value.state === 'running') timer = window.setTimeout(load, 700)
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
}
async function stop() {
  try {
    await remove(`/runs/${run.value?.id}`)
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
  await load()
}
const again = () => router.push({ name: 'query', query: { sql: run.value?.statement } })
watch(() => route.params.id, load, { immediate: true })
onBeforeUnmount(() => window.clearTimeout(timer))
</script>

<template>
  <div class="page">
    <div class="page-head">
      <h1>Run <span class="mono">{{ route.params.id }}</span></h1>
      <span v-if="run" class="faint">{{ run.waits ? 'waiting' : run.state }}, {{ count(run.progress.rows_out) }} rows in {{ seconds(run.progress.seconds) }}; {{ count(run.progress.rows_read) }} rows and {{ bytes(run.progress.bytes_read) }} crossed the gates</span>
      <span class="buttons"><Button v-if="run?.state === 'running'" label="Stop" size="small" severity="danger" @click="stop" /><Button label="Open as query" size="small" outlined :disabled="!run" @click="again" /></span>
    </div>
    <ErrorNote v-if="error" :error="error" />
    <template v-if="run">
      <pre class="panel">{{ run.statement.trim() }}</pre>
      <ErrorNote v-if="run.error" :error="run.error" />
      <PlanView v-if="plan" :plan="plan" class="plan" />
      <p v-else-if="run.state === 'running'" class="faint">Planning…</p>
      <p v-else class="faint">This statement has no plan.</p>
    </template>
  </div>
</template>

<style scoped>
pre { white-space: pre-wrap; }
.plan { height: auto; padding: 0; }
.buttons { display: flex; gap: 0.5rem; }
</style>
