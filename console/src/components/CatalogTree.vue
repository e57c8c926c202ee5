<script setup lang="ts">
/** Catalogs, schemas, tables and columns; each level is asked for when it is opened. */
import InputText from 'primevue/inputtext'
import Tree from 'primevue/tree'
import type { TreeNode } from 'primevue/treenode'
import { computed, onMounted, ref } from 'vue'

import { errorBody, get, part, type CatalogBody, type TableBody } from '../api/client'
import { quoted } from '../query/names'

const emit = defineEmits<{ insert: [text: string] }>()
const nodes = ref<TreeNode[]>([])
const loading = ref(true)
const failed = ref('')
const filter = ref('')

interface Place { catalog: string; schema?: string; table?: string; column?: string }

function node(key: string, label: string, icon: string, data: Place, leaf = false): TreeNode {
  return { key, label, icon, data, leaf, children: leaf ? undefined : undefined }
}

async function load() {
  loading.value = true
  failed.value = ''
  try {
    const catalogs = await get<CatalogBody[]>('/catalogs')
    nodes.value = [...catalogs.map((c) => c.name), 'lane'].map((name) => node(name, name, 'pi pi-database', { catalog: name }))
  } catch (thrown) {
    failed.value = errorBody(thrown).message
  } finally {
    loading.value = false
  }
}

/** The node itself where a copy of it was opened. */
function original(key: string, among: TreeNode[] = nodes.value): TreeNode | undefined {
  for (const n of among) {
    if (n.key === key) return n
    const inside = key.startsWith(`${n.key}.`) ? original(key, n.children ?? []) : undefined
    if (inside) return inside
  }
}

async function open(shownNode: TreeNode) {
  const opened = original(String(shownNode.key)) ?? shownNode
  if (opened.children) return
  const { catalog, schema, table } = opened.data as Place
  opened.loading = true
  try {
    if (table && schema) {
      const body = await get<TableBody>(`/catalogs/${part(catalog)}/schemas/${part(schema)}/tables/${part(table)}`)
      opened.children = body.columns.map((c) => ({
        ...node(`${opened.key}.${c.name}`, c.name, c.key ? 'pi pi-key' : c.partition ? 'pi pi-folder' : 'pi pi-minus', { catalog, schema, table, column: c.name }, true),
        type: 'column',
        sqlType: c.type,
      }))
    } else if (schema) {
      const tables = await get<string[]>(`/catalogs/${part(catalog)}/schemas/${part(schema)}/tables`)
      opened.children = tables.map((t) => ({ ...node(`${opened.key}.${t}`, t, 'pi pi-table', { catalog, schema, table: t }), type: 'table' }))
    } else {
      const schemas = await get<string[]>(`/catalogs/${part(catalog)}/schemas`)
      opened.children = schemas.map((s) => node(`${opened.key}.${s}`, s, 'pi pi-folder', { catalog, schema: s }))
    }
  } catch (thrown) {
    const error = errorBody(thrown)
    opened.children = [{ key: `${opened.key}.!`, label: `${error.message} ${error.hint ?? ''}`, icon: 'pi pi-exclamation-triangle', leaf: true, selectable: false, styleClass: 'failed' }]
  } finally {
    opened.loading = false
  }
}

function insert(place: Place) {
  const parts = place.column ? [place.column] : [place.catalog, place.schema, place.table]
  emit('insert', parts.filter((name) => name !== undefined).map(quoted).join('.'))
}

/** Enter on a name inserts it, like a double click; the arrows open and close, as in every tree. */
function insertByKey(event: KeyboardEvent) {
  const label = (event.target as HTMLElement).querySelector<HTMLElement>(':scope > .p-tree-node-content .name')
  const found = label?.dataset.key ? original(label.dataset.key) : undefined
  if (!found?.data) return
  event.preventDefault()
  event.stopPropagation()
  insert(found.data as Place)
}

/** Children that are shown of one node; a filter shows others. */
const MOST = 300

function cut(all: TreeNode[], parent?: TreeNode): TreeNode[] {
  if (all.length <= MOST) return all
  const more: TreeNode = { key: `${parent?.key}.…`, label: `${(all.length - MOST).toLocaleString()} more: filter by name to see them`, icon: 'pi pi-ellipsis-h', leaf: true, selectable: false }
  return [...all.slice(0, MOST), more]
}

/** The loaded nodes whose name, or a child's name, contains the text. */
const shown = computed(() => {
  const wanted = filter.value.trim().toLowerCase()
  const keep = (all: TreeNode[]): TreeNode[] =>
    all.flatMap((n) => {
      const children = n.children ? keep(n.children) : undefined
      const own = (n.label ?? '').toLowerCase().includes(wanted)
      if (children?.length) return [{ ...n, children: cut(children, n) }]
      return own ? [short(n)] : []
    })
  /** A node with too many children is shown as a copy, which opens like the node itself. */
  const short = (n: TreeNode): TreeNode => (n.children && (n.children.length > MOST || n.children.some((c) => (c.children?.length ?? 0) > MOST)) ? { ...n, children: cut(n.children, n).map(short) } : n)
  return wanted ? keep(nodes.value) : nodes.value.map(short)
})

onMounted(load)
defineExpose({ load })
</script>

<template>
  <div class="side">
    <InputText v-model="filter" placeholder="Filter names" aria-label="Filter names of catalogs, tables and columns" fluid size="small" />
    <p v-if="failed" class="empty">{{ failed }}</p>
    <p v-else-if="!loading && nodes.length === 1" class="empty">No catalog yet. <RouterLink to="/catalogs">Add a connection</RouterLink> to begin.</p>
    <Tree :value="shown" :loading="loading" class="tree" aria-label="Catalogs; Enter inserts a name" @node-expand="open" @keydown.enter.capture="insertByKey">
      <template #default="{ node: n }">
        <span class="name" :data-key="n.key" :title="`${n.label}${n.sqlType ? ' ' + n.sqlType : ''} (Enter or a double click inserts it)`" @dblclick="n.data && insert(n.data)">
          {{ n.label }}<small v-if="n.sqlType" class="faint"> {{ n.sqlType }}</small>
        </span>
        <RouterLink v-if="n.type === 'table' && (n.data.catalog !== 'lane' || n.data.schema === 'views')" class="more" :to="`/catalogs/${n.data.catalog}/${n.data.schema}/${n.data.table}`" :aria-label="`Page of ${n.label}`"><i class="pi pi-arrow-right" /></RouterLink>
      </template>
    </Tree>
  </div>
</template>

<style scoped>
.side { display: flex; flex-direction: column; gap: 0.5rem; height: 100%; padding: 0.6rem; }
.tree { flex: 1; overflow: auto; padding: 0; background: transparent; font-size: 13px; }
.tree :deep(.p-tree-node-content) { padding: 0.1rem 0.2rem; }
.tree :deep(.failed) { color: var(--failure); white-space: normal; }
.name { cursor: default; white-space: nowrap; }
.more { margin-left: 0.4rem; opacity: 0; font-size: 11px; }
.tree :deep(.p-tree-node-content:hover) .more, .more:focus { opacity: 1; }
.empty { color: var(--faint); margin: 0.3rem; }
</style>
