<script setup lang="ts">
/** The states of a table as a picture, one of which can be chosen. */
import { computed } from 'vue'

import { history, type Name, type State } from '../lake/history'

const props = defineProps<{ states: State[]; names: Name[]; chosen: string | null }>()
const emit = defineEmits<{ choose: [snapshot: string] }>()

/** States that are drawn; of more the last ones. */
const MOST = 40
const STEP = 104
const LANE = 60
const drawn = computed(() => history([...props.states].sort((a, b) => a.at.localeCompare(b.at)).slice(-MOST), props.names))
/** The label of the last state stands to its right. */
const LABEL = 130
const width = computed(() => Math.max(0, drawn.value.dots.length - 1) * STEP + 36 + LABEL)
const height = computed(() => drawn.value.lanes * LANE + 10)
const x = (place: number) => 36 + place * STEP
const y = (lane: number) => 34 + lane * LANE
const line = (from: { x: number; y: number }, to: { x: number; y: number }) =>
  from.y === to.y ? `M${x(from.x)} ${y(from.y)}H${x(to.x)}` : `M${x(from.x)} ${y(from.y)}C${x(from.x) + 34} ${y(from.y)} ${x(from.x) + 18} ${y(to.y)} ${x(from.x) + 54} ${y(to.y)}H${x(to.x)}`
const said = (state: State) => `${state.operation ?? 'state'} of ${state.at.slice(0, 19)}`
</script>

<template>
  <div class="scroll">
    <p v-if="states.length > MOST" class="faint">the last {{ MOST }} of {{ states.length }} states</p>
    <svg :width="width" :height="height" role="group" aria-label="The states of the table">
      <path v-for="l in drawn.lines" :key="`${l.from.state.snapshot}-${l.to.state.snapshot}`" :d="line(l.from, l.to)" class="line" />
      <g
        v-for="d in drawn.dots"
        :key="d.state.snapshot"
        class="dot"
        :class="{ chosen: d.state.snapshot === chosen, ends: (d.state.rows_removed ?? 0) > 0 }"
        tabindex="0"
        role="button"
        :aria-label="said(d.state)"
        :aria-pressed="d.state.snapshot === chosen"
        @click="emit('choose', d.state.snapshot)"
        @keydown.enter="emit('choose', d.state.snapshot)"
        @keydown.space.prevent="emit('choose', d.state.snapshot)"
      >
        <title>{{ said(d.state) }}</title>
        <circle :cx="x(d.x)" :cy="y(d.y)" r="9" />
        <text :x="x(d.x)" :y="y(d.y) + 24" class="operation">{{ d.state.operation }}</text>
        <g v-for="(n, i) in d.names" :key="n.name">
          <rect :x="x(d.x) + 12 + i * 4" :y="y(d.y) - 30 - i * 17" :width="n.name.length * 6.6 + 14" height="15" rx="7" class="name" :class="n.kind" />
          <text :x="x(d.x) + 19 + i * 4" :y="y(d.y) - 19 - i * 17" class="label">{{ n.name }}</text>
        </g>
      </g>
    </svg>
  </div>
</template>

<style scoped>
.scroll { overflow: auto; }
.line { fill: none; stroke: var(--faint); stroke-width: 2; }
.dot { cursor: pointer; outline: none; }
.dot circle { fill: var(--panel); stroke: var(--accent); stroke-width: 2.4; }
.dot.ends circle { stroke: var(--kept); }
.dot.chosen circle, .dot:focus-visible circle { fill: var(--accent); }
.dot.chosen.ends circle { fill: var(--kept); }
.operation { font-size: 11px; fill: var(--faint); text-anchor: middle; }
.name { fill: var(--accent-soft); stroke: var(--accent); }
.name.tag { fill: var(--kept-soft); stroke: var(--kept); }
.label { font-size: 11px; font-family: var(--mono); fill: var(--text); }
</style>
