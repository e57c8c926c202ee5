<script setup lang="ts">
/** One catalog: its settings and where they come from, the tables that it defines, looks for tables and their history. */
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { errorBody, get, part, put, type CatalogBody, type ConfiguredCatalogBody, type EffectiveBody, type ErrorBody, type PastLookBody } from '../api/client'
import { isAdministrator } from '../api/signIn'
import DiscoverPanel from '../components/DiscoverPanel.vue'
import DropDialog from '../components/DropDialog.vue'
import ErrorNote from '../components/ErrorNote.vue'

const route = useRoute()
const router = useRouter()
const name = computed(() => String(route.params.catalog))
const path = computed(() => `/catalogs/${part(name.value)}`)
const own = ref<ConfiguredCatalogBody | null>(null)
const kind = ref('')
const settings = ref<EffectiveBody[]>([])
const looks = ref<PastLookBody[]>([])
const error = ref<ErrorBody | null>(null)
const changed = ref<Record<string, string>>({})
const dropping = ref(false)
const hasFiles = computed(() => ['files', 's3', 'http'].includes(kind.value))
const defined = computed(() => Object.entries(own.value?.tables ?? {}))

async function attempt(call: () => Promise<void>) {
  error.value = null
  try {
    await call()
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
}

const load = () => attempt(async () => {
  ;[own.value, settings.value, looks.value] = await Promise.all([get<ConfiguredCatalogBody>(path.value), get<EffectiveBody[]>(`${path.value}/settings`), get<PastLookBody[]>(`${path.value}/looks`)])
  kind.value = (await get<CatalogBody[]>('/catalogs')).find((c) => c.name === name.value)?.kind ?? ''
  changed.value = {}
})

const save = (next: ConfiguredCatalogBody) => attempt(async () => {
  await put<ConfiguredCatalogBody>(path.value, next)
  await load()
})

function saveSettings() {
  if (!own.value) return
  const options = { ...own.value.options }
  for (const [setting, value] of Object.entries(changed.value)) {
    if (value.trim()) options[setting] = value.trim()
    else delete options[setting]
  }
  return save({ ...own.value, options })
}

function undefine(table: string) {
  if (!own.value) return
  const tables = { ...own.value.tables }
  delete tables[table]
  return save({ ...own.value, tables })
}

const link = (table: string) => `/catalogs/${part(name.value)}/${table.split('.').map(part).join('/')}`
const moment = (text: string) => new Date(text).toLocaleString()
watch(name, load, { immediate: true })
</script>

<template>
  <div class="page">
    <div class="page-head">
      <h1>{{ name }}</h1><span class="faint">catalog of connection {{ own?.connection }}<template v-if="own?.watch">, looked through every {{ own.watch.every }} s</template></span>
      <Button v-if="own?.watch && isAdministrator" label="Stop watching" size="small" text severity="secondary" @click="save({ ...own, watch: undefined })" />
      <Button v-if="isAdministrator" icon="pi pi-trash" size="small" text severity="secondary" :aria-label="`Drop catalog ${name}`" @click="dropping = true" />
    </div>
    <ErrorNote v-if="error" :error="error" class="gap" />
    <p v-if="!own && !error" class="faint">Loading…</p>
    <template v-if="own">
      <DiscoverPanel v-if="hasFiles && isAdministrator" :key="name" :catalog="name" class="gap" @defined="load" />
      <section class="panel gap" aria-label="Defined tables">
        <h2>Defined tables</h2>
        <p v-if="!defined.length" class="faint">None: it shows what {{ hasFiles ? 'lies in its folders' : 'its source has' }}. {{ hasFiles ? 'Discover sorts files of many folders into tables.' : 'A stored query is defined with: cobble catalog define' }}</p>
        <table v-else class="plain-table">
          <thead><tr><th>table</th><th>form</th><th>path or query</th><th class="number">columns</th><th></th></tr></thead>
          <tbody><tr v-for="[table, t] in defined" :key="table">
            <td><RouterLink :to="link(table)">{{ table }}</RouterLink></td><td>{{ t.format ?? (t.query ? 'query' : 'by ending') }}</td>
            <td><code>{{ t.query ?? [t.path, t.files].filter(Boolean).join('/') }}</code></td><td class="number">{{ t.columns?.length || '–' }}</td>
            <td><Button v-if="isAdministrator" icon="pi pi-times" size="small" text severity="secondary" :aria-label="`Define ${table} no more`" @click="undefine(table)" /></td>
          </tr></tbody>
        </table>
      </section>
      <section class="panel gap" aria-label="Settings">
        <h2>Settings</h2>
        <form @submit.prevent="saveSettings">
          <table class="plain-table">
            <thead><tr><th>setting</th><th>value</th><th>from</th></tr></thead>
            <tbody><tr v-for="s in settings" :key="s.name">
              <td>{{ s.name }}</td>
              <td><InputText v-if="s.tunable && isAdministrator" :model-value="changed[s.name] ?? (s.from === 'catalog' ? (s.value ?? '') : '')" :placeholder="s.value ?? ''" size="small" :aria-label="`${s.name} of this catalog`" @update:model-value="changed[s.name] = $event ?? ''" /><code v-else>{{ s.value ?? '–' }}</code></td>
              <td :class="{ accent: s.from === 'catalog' }">{{ s.from }}</td>
            </tr></tbody>
          </table>
          <Button v-if="Object.keys(changed).length" type="submit" label="Save settings" size="small" />
        </form>
      </section>
      <section v-if="hasFiles" class="panel gap" aria-label="History">
        <h2>What looks have found</h2>
        <p v-if="!looks.length" class="faint">No look has found anything new or other yet.</p>
        <div v-for="look in looks" :key="look.looked_at">
          <p class="faint">{{ moment(look.looked_at) }}, {{ look.asked ? 'asked for' : 'on its time' }}</p>
          <ul><li v-for="d in look.drift" :key="d.table + d.change + d.detail"><span :class="d.change === 'failed' || d.change === 'problem' ? 'failure' : d.change === 'new table' ? 'accent' : 'kept'">{{ d.change }}</span> {{ d.table }}: {{ d.detail }}</li></ul>
        </div>
      </section>
    </template>
    <DropDialog v-model:visible="dropping" :what="`catalog ${name}`" :path="path" @dropped="router.push('/catalogs')" />
  </div>
</template>

<style scoped>
.gap { margin-bottom: 0.9rem; }
table { width: 100%; margin: 0.4rem 0; }
.plain-table .number { text-align: right; }
ul { list-style: none; margin: 0.1rem 0 0.5rem; padding: 0; }
.accent { color: var(--accent); }
.kept { color: var(--kept); }
.failure { color: var(--failure); }
</style>
