<script setup lang="ts">
import type { SQLNamespace } from '@codemirror/lang-sql'
import Button from 'primevue/button'
import ProgressBar from 'primevue/progressbar'
import Splitter from 'primevue/splitter'
import SplitterPanel from 'primevue/splitterpanel'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { download, errorBody, get, type FunctionBody, type NameBody } from '../api/client'
import CatalogTree from '../components/CatalogTree.vue'
import ErrorNote from '../components/ErrorNote.vue'
import PlanView from '../components/PlanView.vue'
import ResultGrid from '../components/ResultGrid.vue'
import SqlEditor from '../components/SqlEditor.vue'
import type { PlanDocument } from '../api/client'
import { bytes, count, seconds } from '../plan/numbers'
import { firstQuery } from '../query/first'
import { placeWords, useTabs } from '../query/tabs'
import { moveInTabs } from '../components/tabKeys'

defineOptions({ name: 'QueryPage' })
const store = useTabs()
const route = useRoute()
const router = useRouter()
const editor = ref<InstanceType<typeof SqlEditor>>()
const names = shallowRef<SQLNamespace>({})
const functions = shallowRef<FunctionBody[]>([])
const plan = shallowRef<PlanDocument | null>(null)
/** The whole result as a file. */
const save = (id: string) => download(`/runs/${id}/rows?format=csv`).catch((thrown) => { tab.value.error = errorBody(thrown) })
const tab = computed(() => store.tabs.find((t) => t.key === store.active) ?? store.tabs[0])
const run = computed(() => tab.value.run)
const running = computed(() => run.value?.state === 'running')
const title = (text: string) => text.trim().split('\n')[0].slice(0, 24) || 'empty'

async function loadNames() {
  try {
    const all = await get<NameBody[]>('/names')
    const tree: Record<string, Record<string, Record<string, string[]>>> = {}
    for (const n of all) ((tree[n.catalog] ??= {})[n.schema] ??= {})[n.table] = n.columns
    names.value = tree as SQLNamespace
    suggest(all)
    functions.value = await get<FunctionBody[]>('/functions')
  } catch {
    // Completion works without; the tree shows what is wrong.
  }
}

/** Fills the only, empty tab of a first visit with a query over tables that are there. */
function suggest(all: NameBody[]) {
  if (store.tabs.length !== 1 || store.tabs[0].text !== '' || route.query.sql) return
  store.tabs[0].text = firstQuery(all)
}

/** The plan of the run, or without one of the text as it stands. */
async function loadPlan() {
  const own = tab.value
  const asked = own.asked
  const isLate = () => tab.value !== own || own.asked !== asked
  try {
    const found = own.run && own.run.columns ? await get<PlanDocument>(`/runs/${own.run.id}/plan`) : await store.planOf(own)
    if (isLate()) return
    plan.value = found
    if (!own.run) own.error = null
  } catch (thrown) {
    if (isLate()) return
    plan.value = null
    own.error = errorBody(thrown)
  }
}

async function start() {
  plan.value = null
  share()
  await store.run(tab.value)
  if (tab.value.view === 'plan') await loadPlan()
}

function show(view: 'rows' | 'plan') {
  tab.value.view = view
  if (view === 'plan') loadPlan()
}

watch(() => [run.value?.state, run.value?.progress.rows_out], () => {
  if (tab.value.view === 'plan' && run.value) loadPlan()
})
watch(() => store.active, () => {
  plan.value = null
  if (tab.value.view === 'plan') loadPlan()
})
/** Texts up to this length stand in the address. */
const SHARED = 4000

/** A query that is run stands in the address, so that it can be shared. */
function share() {
  const sql = tab.value.text.length <= SHARED ? tab.value.text || undefined : undefined
  if (route.name === 'query' && sql !== route.query.sql) router.replace({ name: 'query', query: { sql } })
}
watch(() => route.query.sql, (sql) => {
  if (route.name === 'query' && typeof sql === 'string' && sql !== tab.value.text) {
    const same = store.tabs.find((t) => t.text === sql)
    if (same) store.active = same.key
    else if (tab.value.text === '' && !tab.value.run) tab.value.text = sql
    else store.open(sql)
  }
}, { immediate: true })
onMounted(loadNames)
</script>

<template>
  <Splitter class="query" :gutter-size="5">
    <SplitterPanel :size="20" :min-size="12"><CatalogTree @insert="(text) => editor?.insert(text)" /></SplitterPanel>
    <SplitterPanel :size="80" class="work">
      <div class="tabs" role="tablist" aria-label="Queries" @keydown="moveInTabs">
        <span v-for="t in store.tabs" :key="t.key" class="tab" :class="{ active: t.key === store.active }">
          <button role="tab" :aria-selected="t.key === store.active" :tabindex="t.key === store.active ? 0 : -1" @click="store.active = t.key"><i v-if="t.run?.state === 'running'" class="pi pi-spin pi-spinner" /> {{ title(t.text) }}</button>
          <button class="close" :aria-label="`Close ${title(t.text)}`" @click="store.close(t.key)"><i class="pi pi-times" /></button>
        </span>
        <Button icon="pi pi-plus" text size="small" aria-label="New query" @click="store.open()" />
      </div>
      <Splitter layout="vertical" class="split" :gutter-size="5">
        <SplitterPanel :size="34" :min-size="12"><SqlEditor ref="editor" v-model="tab.text" :error="tab.error" :names="names" :functions="functions" @run="start" /></SplitterPanel>
        <SplitterPanel :size="66" class="below">
          <div class="bar">
            <Button v-if="!running" id="run" label="Run" icon="pi pi-play" size="small" title="Ctrl+Enter" @click="start" />
            <Button v-else id="stop" label="Stop" icon="pi pi-stop" size="small" severity="danger" @click="store.stop(tab)" />
            <div class="views" role="tablist" aria-label="Views" @keydown="moveInTabs">
              <button role="tab" :aria-selected="tab.view === 'rows'" :tabindex="tab.view === 'rows' ? 0 : -1" :class="{ on: tab.view === 'rows' }" @click="show('rows')">Rows</button>
              <button id="plan-view" role="tab" :aria-selected="tab.view === 'plan'" :tabindex="tab.view === 'plan' ? 0 : -1" :class="{ on: tab.view === 'plan' }" @click="show('plan')">Plan</button>
            </div>
            <span v-if="run" class="state" aria-live="polite">
              <strong :class="run.state">{{ run.waits ? 'waiting' : run.state }}</strong>
              {{ count(run.progress.rows_out) }} rows · {{ seconds(run.progress.seconds) }} · {{ count(run.progress.rows_read) }} rows and {{ bytes(run.progress.bytes_read) }} crossed
            </span>
            <span class="right">
              <span v-if="placeWords(tab.place)" class="session-place" title="Where unqualified names are looked up, and the settings of this tab's session">{{ placeWords(tab.place) }}</span>
              <button v-if="run?.state === 'finished' && run.columns?.length" class="download" @click="save(run.id)"><i class="pi pi-download" aria-hidden="true" /> CSV</button>
              <RouterLink v-if="run" :to="`/runs/${run.id}`">run {{ run.id }}</RouterLink>
            </span>
          </div>
          <ProgressBar v-if="running" mode="indeterminate" class="thin" aria-label="Running" />
          <div class="answer">
            <p v-if="tab.note" class="hint" role="status">{{ tab.note }}</p>
            <ErrorNote v-if="tab.error && run?.state !== 'running'" :error="tab.error" class="note" />
            <template v-if="tab.view === 'plan'">
              <PlanView v-if="plan" :plan="plan" />
              <p v-else-if="!tab.error" class="hint">{{ tab.text.trim() ? 'Planning…' : 'Write a query to see its plan.' }}</p>
            </template>
            <template v-else-if="tab.error && run?.state !== 'running'" />
            <p v-else-if="run?.message" class="hint">{{ run.message }}</p>
            <ResultGrid v-else-if="run?.columns?.length" :run="run" @failed="(e) => (tab.error = e)" />
            <p v-else class="hint">{{ run?.waits ? 'Other runs go first…' : running ? 'Waiting for the first rows…' : 'Ctrl+Enter runs the query; its rows appear here. Plan shows what each source would take over.' }}</p>
          </div>
        </SplitterPanel>
      </Splitter>
    </SplitterPanel>
  </Splitter>
</template>

<style scoped>
.query { height: 100%; border: none; border-radius: 0; background: var(--ground); }
.work { display: flex; flex-direction: column; min-width: 0; }
.tabs { display: flex; align-items: center; gap: 2px; padding: 0.35rem 0.5rem 0; background: var(--ground); overflow-x: auto; flex: none; }
.tab { display: flex; background: transparent; border: 1px solid var(--line); border-bottom: none; border-radius: 5px 5px 0 0; color: var(--faint); }
.tab.active { background: var(--panel); color: var(--text); border-top: 2px solid var(--accent); }
.tab button { background: none; border: none; color: inherit; font: inherit; font-size: 12.5px; padding: 0.25rem 0.2rem 0.25rem 0.7rem; cursor: pointer; white-space: nowrap; }
.tab .close { padding: 0.25rem 0.5rem; font-size: 10px; opacity: 0.6; }
.tab .close i { font-size: 10px; }
.split { flex: 1; min-height: 0; border: none; border-radius: 0; }
.below { display: flex; flex-direction: column; min-height: 0; }
.bar { display: flex; align-items: center; gap: 0.9rem; padding: 0.4rem 0.6rem; border-bottom: 1px solid var(--line); background: var(--ground); flex: none; }
.views { display: flex; }
.views button { background: none; border: 1px solid var(--line); padding: 0.25rem 0.9rem; color: var(--faint); font: inherit; cursor: pointer; }
.views button:first-child { border-radius: 4px 0 0 4px; }
.views button:last-child { border-radius: 0 4px 4px 0; border-left: none; }
.views .on { background: var(--accent-soft); color: var(--accent); font-weight: 600; }
.state { color: var(--faint); font-size: 12.5px; }
.state strong { color: var(--accent); margin-right: 0.3rem; }
.state .failed { color: var(--failure); }
.state .cancelled { color: var(--kept); }
.session-place { color: var(--faint); max-width: 22rem; overflow: hidden; text-overflow: ellipsis; }
.download { background: none; border: none; padding: 0; color: var(--accent); font: inherit; cursor: pointer; }
.download:hover { text-decoration: underline; }
.right { margin-left: auto; display: flex; gap: 1rem; font-size: 12.5px; white-space: nowrap; }
.thin { height: 3px; border-radius: 0; flex: none; }
.answer { flex: 1; min-height: 0; overflow: hidden; }
.note { margin: 0.8rem; }
.hint { color: var(--faint); padding: 0.8rem 1rem; margin: 0; }
</style>
