<script setup lang="ts">
/** The steps of a plan as a picture: sources at the bottom, the result on top. */
import { computed, ref, watch } from 'vue'

import type { PlanDocument, StepDocument } from '../api/client'
import { layout, type Layout } from '../plan/layout'
import { bytes, count, seconds } from '../plan/numbers'

const props = defineProps<{ plan: PlanDocument }>()
const placed = ref<Layout | null>(null)
const steps = computed(() => new Map(props.plan.steps.map((s) => [s.step, s])))
const most = computed(() => Math.max(...props.plan.steps.map((s) => s.measure?.seconds ?? 0), 1e-9))

const shape = computed(() => props.plan.steps.map((s) => `${s.step}:${s.inputs}`).join())
watch(shape, async () => { placed.value = await layout(props.plan) }, { immediate: true })

const path = (points: { x: number; y: number }[]) => points.map((p, i) => `${i ? 'L' : 'M'}${p.x} ${p.y}`).join(' ')
/** What a step did, or is expected to do. */
function outcome(step: StepDocument): string {
  const m = step.measure
  if (!m) return `est. ${count(step.estimated_rows)} rows`
  const disk = m.spilled ? ` · ${bytes(m.spilled)} to disk` : ''
  return `${count(m.rows)} rows (est. ${count(step.estimated_rows)}) · ${seconds(m.seconds)}${disk}`
}
const short = (text: string, n: number) => (text.length > n ? `${text.slice(0, n - 1)}…` : text)
</script>

<template>
  <div class="graph">
    <svg v-if="placed" :viewBox="`-8 -8 ${placed.width + 16} ${placed.height + 16}`" :width="placed.width + 16" :height="placed.height + 16" aria-hidden="true">
      <path v-for="e in placed.edges" :key="`${e.from}-${e.to}`" :d="path(e.points)" class="edge" />
      <g v-for="b in placed.boxes" :key="b.step" :transform="`translate(${b.x} ${b.y})`">
        <title>{{ steps.get(b.step)?.text }}</title>
        <rect :width="b.width" :height="b.height" rx="6" class="box" :class="{ source: steps.get(b.step)?.gate }" />
        <rect v-if="steps.get(b.step)?.measure" y="62" :width="Math.max(2, (b.width * (steps.get(b.step)?.measure?.seconds ?? 0)) / most)" height="4" rx="2" class="time" />
        <text x="10" y="19" class="kind">{{ b.step }} · {{ (steps.get(b.step)?.kind ?? '').replaceAll('_', ' ') }}{{ steps.get(b.step)?.gate ? ` ${steps.get(b.step)?.gate}` : '' }}</text>
        <text x="10" y="36" class="text">{{ short(steps.get(b.step)?.text.replace(/^gate \w+: /, '') ?? '', 31) }}</text>
        <text x="10" y="53" class="rows">{{ outcome(steps.get(b.step)!) }}</text>
      </g>
    </svg>
    <p v-else class="faint">Laying out the plan…</p>
    <ol class="spoken" aria-label="The steps of the plan, sources first">
      <li v-for="s in plan.steps" :key="s.step">step {{ s.step }}, {{ s.kind.replaceAll('_', ' ') }}: {{ s.text }}{{ s.inputs.length ? `, reads step ${s.inputs.join(' and ')}` : '' }}; {{ outcome(s) }}</li>
    </ol>
  </div>
</template>

<style scoped>
.graph { overflow: auto; position: relative; }
/* For those who listen: the picture says the same. */
.spoken { position: absolute; width: 1px; height: 1px; margin: -1px; overflow: hidden; clip-path: inset(50%); white-space: nowrap; }
.edge { fill: none; stroke: var(--faint); stroke-width: 1.4; }
.box { fill: var(--panel); stroke: var(--line); stroke-width: 1.2; }
.box.source { stroke: var(--accent); fill: var(--accent-soft); }
.time { fill: var(--accent); }
.kind { font-size: 12px; font-weight: 600; fill: var(--text); }
.text { font-size: 11px; font-family: var(--mono); fill: var(--text); }
.rows { font-size: 11px; fill: var(--faint); }
</style>
