<script setup lang="ts">
/** A plan: the graph, the gates with their verdicts, the joins and the trace of rewrites. */
import { computed } from 'vue'
import type { PlanDocument } from '../api/client'
import { bytes, count, seconds } from '../plan/numbers'
import GateCard from './GateCard.vue'
import PlanGraph from './PlanGraph.vue'

const props = defineProps<{ plan: PlanDocument }>()
/** Where work was offered in several shapes. Plans of older runs have none. */
const offers = computed(() => props.plan.offers ?? [])
/** What planning consists of. */
const phases = computed(() => (props.plan.measures?.phases ?? []).map((p) => `${p.phase} ${seconds(p.seconds)}`).join(', '))
const orders = computed(() => props.plan.rewrites.flatMap((r) => r.orders ?? []))
</script>

<template>
  <div class="plan">
    <section class="left">
      <p v-if="plan.measures" class="faint">{{ count(plan.measures.rows) }} rows in {{ seconds(plan.measures.seconds) }}, planned in {{ seconds(plan.measures.planning_seconds) }}<template v-if="phases"> ({{ phases }})</template>, at most {{ bytes(plan.measures.memory) }} held</p>
      <PlanGraph :plan="plan" />
      <div v-if="plan.joins.length || offers.length" class="joins">
        <h2>Joins</h2>
        <p v-for="o in offers" :key="o.gates.join()"><strong>{{ o.gates.length > 1 ? 'gates' : 'gate' }} {{ o.gates.join(', ') }}</strong> {{ o.chosen }}, cost {{ count(o.cost) }}<span v-for="a in o.alternatives" :key="a.way" class="faint">; {{ a.way }} would cost {{ count(a.cost) }}</span></p>
        <p v-for="o in orders" :key="o.chosen"><strong>order</strong> <span class="mono">{{ o.chosen }}</span>, {{ count(o.cost) }} rows touched<span v-if="o.written.way !== o.chosen" class="faint">; as written {{ o.written.way }} {{ count(o.written.cost) }}</span><span v-for="a in o.alternatives.filter((a) => a.way !== o.written.way)" :key="a.way" class="faint">; {{ a.way }} {{ count(a.cost) }}</span></p>
        <p v-for="j in plan.joins" :key="j.step"><strong>step {{ j.step }}</strong> <span class="mono">{{ j.text }}</span> by {{ j.chosen }}, cost {{ count(j.cost) }}<span v-for="a in j.alternatives" :key="a.way" class="faint">; {{ a.way }} would cost {{ count(a.cost) }}</span></p>
      </div>
      <details>
        <summary>Rewrites: {{ plan.rewrites.filter((r) => r.changed).map((r) => r.rewrite).join(', ') || 'none changed the plan' }}</summary>
        <details v-for="(r, i) in plan.rewrites" :key="i" class="rewrite">
          <summary><strong>{{ r.rewrite }}</strong> <span class="faint">{{ r.switched_off ? 'switched off' : r.changed ? 'changed the plan' : 'nothing to do' }} — {{ r.about }}</span></summary>
          <p v-for="n in r.notes ?? []" :key="n" class="mono">{{ n }}</p>
          <div v-if="r.changed" class="both"><pre>{{ r.before }}</pre><pre>{{ r.after }}</pre></div>
        </details>
      </details>
    </section>
    <section class="gates" aria-label="Gates"><GateCard v-for="g in plan.gates" :key="g.gate" :gate="g" /></section>
  </div>
</template>

<style scoped>
.plan { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 1rem; padding: 0.8rem; height: 100%; overflow: auto; align-content: start; }
.left { min-width: 0; }
.left > p { margin: 0 0 0.5rem; }
.gates { display: flex; flex-direction: column; gap: 0.8rem; min-width: 0; }
.joins p { margin: 0.2rem 0; }
summary { cursor: pointer; padding: 0.2rem 0; }
.rewrite { margin-left: 1rem; }
.both { display: grid; grid-template-columns: 1fr 1fr; gap: 0.5rem; }
.both pre { background: var(--panel); border: 1px solid var(--line); padding: 0.5rem; overflow: auto; margin: 0; }
@media (max-width: 1000px) { .plan { grid-template-columns: 1fr; } }
</style>
