<script setup lang="ts">
/** Rows of a run. Only those on the screen are in the page, and only their pages are fetched. */
import { computed, nextTick, onMounted, ref, watch } from 'vue'

import { errorBody, get, type ErrorBody, type PageBody, type RunBody } from '../api/client'
import { PAGE_ROWS, columnWidth, pagesFor, shown } from '../query/pages'

const props = defineProps<{ run: RunBody }>()
const emit = defineEmits<{ failed: [error: ErrorBody] }>()
const ROW = 27
const box = ref<HTMLElement>()
const top = ref(0)
const height = ref(400)
const pages = ref(new Map<number, unknown[][]>())
const asked = new Set<number>()
const widths = ref<number[]>([])

const columns = computed(() => props.run.columns ?? [])
const total = computed(() => props.run.progress.rows_out)
const first = computed(() => Math.max(Math.floor(top.value / ROW) - 10, 0))
const last = computed(() => Math.min(Math.ceil((top.value + height.value) / ROW) + 10, total.value))
const visible = computed(() => {
  const rows: { index: number; values: unknown[] | undefined }[] = []
  for (let i = first.value; i < last.value; i++) rows.push({ index: i, values: pages.value.get(Math.floor(i / PAGE_ROWS))?.[i % PAGE_ROWS] })
  return rows
})
const isNumber = (type: string) => /^(smallint|integer|bigint|numeric|real|double)/.test(type)

function take(page: number, body: PageBody) {
  pages.value.set(page, body.rows)
  pages.value = new Map(pages.value)
  if (!widths.value.length) widths.value = columns.value.map((c, i) => columnWidth(c.name, body.rows.slice(0, 60).map((r) => r[i])))
}

async function fetchPage(page: number) {
  const running = props.run.state === 'running'
  const wanted = Math.min(PAGE_ROWS, total.value - page * PAGE_ROWS)
  // A page that is still growing is fetched again when it has more rows.
  if (asked.has(page) || wanted <= (pages.value.get(page)?.length ?? 0)) return
  asked.add(page)
  try {
    const limit = running ? wanted : PAGE_ROWS
    const from = (offset: number, most: number) => get<PageBody>(`/runs/${props.run.id}/rows?offset=${offset}&limit=${most}`)
    const body = await from(page * PAGE_ROWS, limit)
    // Large rows come few at a time.
    while (!body.last && body.rows.length > 0 && body.rows.length < wanted) {
      const more = await from(page * PAGE_ROWS + body.rows.length, limit - body.rows.length)
      if (more.rows.length === 0) break
      body.rows.push(...more.rows)
      body.last = more.last
    }
    take(page, body)
  } catch (thrown) {
    emit('failed', errorBody(thrown))
  } finally {
    asked.delete(page)
  }
}

function need() {
  if (total.value > 0) pagesFor(first.value, Math.max(last.value - 1, first.value)).forEach(fetchPage)
}

function scrolled() {
  top.value = box.value?.scrollTop ?? 0
  height.value = box.value?.clientHeight ?? 400
}

watch(() => props.run.id, () => {
  pages.value = new Map()
  widths.value = []
  asked.clear()
  top.value = 0
  if (box.value) box.value.scrollTop = 0
  if (props.run.page?.rows.length) take(0, props.run.page)
}, { immediate: true })
watch([first, last, total, () => props.run.state], need, { immediate: true })
onMounted(() => nextTick(scrolled))
</script>

<template>
  <div ref="box" class="grid" tabindex="0" role="region" aria-label="Rows of the result" @scroll.passive="scrolled">
    <table :style="{ width: widths.length ? `${widths.reduce((a, b) => a + b, 56)}px` : undefined }">
      <colgroup><col style="width: 56px" /><col v-for="(w, i) in widths" :key="i" :style="{ width: `${w}px` }" /></colgroup>
      <thead>
        <tr>
          <th class="index" aria-label="Row" />
          <th v-for="(c, i) in columns" :key="i" scope="col" :class="{ number: isNumber(c.type) }" :title="c.type">{{ c.name }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-if="first > 0" aria-hidden="true"><td :style="{ height: `${first * ROW}px`, padding: 0 }" :colspan="columns.length + 1" /></tr>
        <tr v-for="row in visible" :key="row.index">
          <td class="index">{{ row.index + 1 }}</td>
          <td v-for="(c, i) in columns" :key="i" :class="{ number: isNumber(c.type), none: row.values && row.values[i] === null }" :title="row.values ? shown(row.values[i]) : ''">
            <template v-if="row.values">{{ row.values[i] === null ? 'null' : shown(row.values[i]) }}</template><template v-else>…</template>
          </td>
        </tr>
        <tr v-if="last < total" aria-hidden="true"><td :style="{ height: `${(total - last) * ROW}px`, padding: 0 }" :colspan="columns.length + 1" /></tr>
      </tbody>
    </table>
    <p v-if="run.state !== 'running' && total === 0" class="empty">The query has no rows.</p>
  </div>
</template>

<style scoped>
.grid { height: 100%; overflow: auto; background: var(--panel); }
table { border-collapse: separate; border-spacing: 0; table-layout: fixed; min-width: 40%; font-size: 12.5px; }
th { position: sticky; top: 0; background: var(--ground); border-bottom: 1px solid var(--line); text-align: left; font-weight: 600; padding: 0.3rem 0.6rem; z-index: 1; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
td { height: 27px; padding: 0 0.6rem; border-bottom: 1px solid var(--line); white-space: nowrap; overflow: hidden; text-overflow: ellipsis; font-family: var(--mono); font-size: 12px; }
.index { color: var(--faint); text-align: right; }
.none { color: var(--faint); font-style: italic; }
.empty { padding: 0.5rem 1rem; color: var(--faint); }
</style>
