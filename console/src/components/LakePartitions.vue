<script setup lang="ts">
/** The partitions of a table as bars of their rows and bytes. */
import { computed } from 'vue'

import { bytes, count } from '../plan/numbers'

interface Partition { partition: string; files: number; rows: number; bytes: number; files_of_deleted_rows: number }
const props = defineProps<{ partitions: Partition[] }>()

const MOST = 48
const HEIGHT = 92
const shown = computed(() => [...props.partitions].sort((a, b) => a.partition.localeCompare(b.partition)).slice(-MOST))
const step = computed(() => Math.max(20, Math.min(60, 1060 / Math.max(shown.value.length, 1))))
const most = computed(() => ({ rows: Math.max(...shown.value.map((p) => p.rows), 1), bytes: Math.max(...shown.value.map((p) => p.bytes), 1) }))
const value = (p: Partition) => p.partition.replace(/^[^=]*=/, '') || 'all rows'
const said = (p: Partition) => `${p.partition || 'all rows'}: ${count(p.rows)} rows, ${bytes(p.bytes)} in ${p.files} file${p.files === 1 ? '' : 's'}`
</script>

<template>
  <p class="faint legend">
    <span class="key rows" /> rows, at most {{ count(most.rows) }} <span class="key bytes" /> bytes, at most {{ bytes(most.bytes) }}
    <template v-if="partitions.length > MOST">; the last {{ MOST }} of {{ partitions.length }} partitions</template>
  </p>
  <div class="scroll">
    <svg :width="shown.length * step + 50" :height="HEIGHT + 66" role="img" aria-label="Rows and bytes of each partition">
      <g v-for="(p, i) in shown" :key="p.partition" :transform="`translate(${10 + i * step} 0)`">
        <title>{{ said(p) }}</title>
        <rect x="1" :y="HEIGHT - (p.rows / most.rows) * HEIGHT" :width="step * 0.4" :height="(p.rows / most.rows) * HEIGHT" class="rows" />
        <rect :x="step * 0.45" :y="HEIGHT - (p.bytes / most.bytes) * HEIGHT" :width="step * 0.4" :height="(p.bytes / most.bytes) * HEIGHT" class="bytes" />
        <text :transform="`translate(${step * 0.5} ${HEIGHT + 8}) rotate(60)`" class="label">{{ value(p) }}</text>
      </g>
    </svg>
  </div>
</template>

<style scoped>
.scroll { overflow: auto; }
.legend { margin: 0 0 0.4rem; }
.key { display: inline-block; width: 0.7rem; height: 0.7rem; border-radius: 2px; vertical-align: -1px; margin-left: 0.6rem; }
.key.rows { background: var(--accent); margin-left: 0; }
.key.bytes { background: var(--kept); }
rect.rows { fill: var(--accent); }
rect.bytes { fill: var(--kept); }
.label { font-size: 10.5px; font-family: var(--mono); fill: var(--faint); }
</style>
