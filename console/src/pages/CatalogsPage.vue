<script setup lang="ts">
import Button from 'primevue/button'
import { computed, onMounted, ref } from 'vue'

import { errorBody, get, part, type CatalogBody, type ConnectionBody, type ErrorBody, type KindBody } from '../api/client'
import { isAdministrator } from '../api/signIn'
import ConnectionForm from '../components/ConnectionForm.vue'
import CredentialsDialog from '../components/CredentialsDialog.vue'
import DropDialog from '../components/DropDialog.vue'
import ErrorNote from '../components/ErrorNote.vue'
import TestSteps from '../components/TestSteps.vue'

const connections = ref<ConnectionBody[] | null>(null)
const catalogs = ref<CatalogBody[]>([])
const tables = ref<Record<string, { schema: string; table: string }[] | ErrorBody>>({})
const testing = ref('')
const tests = ref(0)
const editing = ref(false)
/** The connection that is changed; none when one is added. */
const changing = ref<ConnectionBody | null>(null)
/** Kinds that one signs in at. */
const guarded = ref<Set<string>>(new Set())
const signing = ref(false)
const signedAt = ref<ConnectionBody | null>(null)
const dropping = ref(false)
const dropped = ref({ what: '', path: '' })
/** Tables that are listed of one catalog; its page and the tree have them all. */
const LISTED = 60
const error = ref<ErrorBody | null>(null)
const of = (connection: string) => catalogs.value.filter((c) => c.connection === connection)
const listed = (catalog: string) => tables.value[catalog] as { schema: string; table: string }[]
/** How one signs in there and where it is, as far as that can be said. */
function about(c: ConnectionBody): string {
  const own = Object.keys(c.credentials ?? {})
  const secret = guarded.value.has(c.kind) && (c.has_secret ? 'secret stored' : 'no secret')
  return [c.user && `as ${c.user}`, secret, c.region && `region ${c.region}`, own.length && `own credentials of ${own.join(', ')}`].filter(Boolean).join(', ')
}
const empty = computed(() => connections.value?.length === 0)

async function load() {
  try {
    const [found, named, kinds] = await Promise.all([get<ConnectionBody[]>('/connections'), get<CatalogBody[]>('/catalogs'), get<KindBody[]>('/kinds')])
    ;[connections.value, catalogs.value] = [found, named]
    guarded.value = new Set(kinds.filter((k) => k.settings.some((s) => s.secret)).map((k) => k.kind))
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
  catalogs.value.forEach(loadTables)
}

async function loadTables({ name }: CatalogBody) {
  try {
    const schemas = (await get<string[]>(`/catalogs/${part(name)}/schemas`)).filter((s) => s !== 'information_schema')
    const lists = await Promise.all(schemas.map(async (schema) => (await get<string[]>(`/catalogs/${part(name)}/schemas/${part(schema)}/tables`)).map((table) => ({ schema, table }))))
    tables.value[name] = lists.flat()
  } catch (thrown) {
    tables.value[name] = errorBody(thrown)
  }
}

function test(name: string) {
  testing.value = name
  tests.value++
}

function drop(what: string, path: string) {
  dropped.value = { what, path }
  dropping.value = true
}

function edit(connection: ConnectionBody | null) {
  changing.value = connection
  editing.value = true
}

function sign(connection: ConnectionBody) {
  signedAt.value = connection
  signing.value = true
}

function signed(connection: ConnectionBody) {
  signedAt.value = connection
  connections.value = (connections.value ?? []).map((c) => (c.name === connection.name ? connection : c))
}

/** Secrets that a change has dropped, by connection. */
const forgotten = ref<Record<string, string[]>>({})

async function changed(connection: ConnectionBody) {
  forgotten.value = { ...forgotten.value, [connection.name]: connection.forgotten ?? [] }
  await added(connection.name)
}

async function added(name: string) {
  await load()
  test(name)
}
onMounted(load)
</script>

<template>
  <div class="page">
    <div class="page-head"><h1>Catalogs</h1><span class="faint">connections say how to reach a system; catalogs are their names in SQL</span><Button v-if="isAdministrator" label="Add a connection" icon="pi pi-plus" size="small" @click="edit(null)" /></div>
    <ErrorNote v-if="error" :error="error" class="gap" />
    <p v-if="connections === null && !error" class="faint">Loading…</p>
    <p v-if="empty" class="panel">No connection yet. Add one to a folder of files or a database; its tables can then be queried by name.</p>
    <section v-for="c in connections ?? []" :key="c.name" class="panel gap" :aria-label="`Connection ${c.name}`">
      <header>
        <strong>{{ c.name }}</strong><span class="tag">{{ c.kind }}</span><code>{{ c.address }}<template v-if="c.database">/{{ c.database }}</template></code>
        <span class="faint">{{ about(c) }}</span>
        <span class="buttons">
          <Button label="Test" icon="pi pi-bolt" size="small" outlined @click="test(c.name)" />
          <Button v-if="isAdministrator" icon="pi pi-pencil" size="small" text severity="secondary" :aria-label="`Change connection ${c.name}`" title="Change" @click="edit(c)" />
          <Button v-if="isAdministrator && guarded.has(c.kind)" icon="pi pi-users" size="small" text severity="secondary" :aria-label="`Who signs in at ${c.name}`" title="Users with credentials of their own" @click="sign(c)" />
          <Button v-if="isAdministrator" icon="pi pi-trash" size="small" text severity="secondary" :aria-label="`Drop connection ${c.name}`" @click="drop(`connection ${c.name}`, `/connections/${part(c.name)}`)" />
        </span>
      </header>
      <p v-if="c.closed" class="hint" role="status">It cannot be used: {{ c.closed }}. Give the secret again.</p>
      <p v-if="forgotten[c.name]?.length" class="hint" role="status">No longer stored, as given for another place or user: {{ forgotten[c.name].join(', ') }}. Give them again.</p>
      <TestSteps v-if="testing === c.name" :key="tests" :connection="c.name" />
      <div v-for="k in of(c.name)" :key="k.name" class="catalog">
        <div class="catalog-head"><i class="pi pi-database" /> <RouterLink :to="`/catalogs/${k.name}`"><strong>{{ k.name }}</strong></RouterLink><Button v-if="isAdministrator" icon="pi pi-times" size="small" text severity="secondary" :aria-label="`Drop catalog ${k.name}`" @click="drop(`catalog ${k.name}`, `/catalogs/${part(k.name)}`)" /></div>
        <p v-if="!tables[k.name]" class="faint">Listing…</p>
        <ErrorNote v-else-if="'message' in tables[k.name]" :error="tables[k.name] as ErrorBody" />
        <ul v-else><li v-for="t in listed(k.name).slice(0, LISTED)" :key="t.schema + t.table"><RouterLink :to="`/catalogs/${k.name}/${t.schema}/${t.table}`">{{ t.schema }}.{{ t.table }}</RouterLink></li><li v-if="listed(k.name).length > LISTED" class="faint">and {{ listed(k.name).length - LISTED }} more</li></ul>
      </div>
      <p v-if="!of(c.name).length" class="faint">No catalog uses it: its tables have no name in SQL yet.</p>
    </section>
    <ConnectionForm v-model:visible="editing" :changing="changing" @added="added" @changed="changed" />
    <CredentialsDialog v-model:visible="signing" :connection="signedAt" @changed="signed" />
    <DropDialog v-model:visible="dropping" :what="dropped.what" :path="dropped.path" @dropped="load" />
  </div>
</template>

<style scoped>
.gap { margin-bottom: 0.9rem; }
header { display: flex; align-items: center; gap: 0.8rem; flex-wrap: wrap; }
.tag { background: var(--accent-soft); color: var(--accent); border-radius: 3px; padding: 0 0.5rem; font-size: 12px; }
.buttons { margin-left: auto; display: flex; gap: 0.4rem; }
.catalog { margin-top: 0.6rem; padding-top: 0.5rem; border-top: 1px solid var(--line); }
.catalog-head { display: flex; align-items: center; gap: 0.4rem; }
ul { list-style: none; margin: 0.2rem 0 0; padding: 0; display: flex; flex-wrap: wrap; gap: 0.2rem 1.2rem; }
</style>
