<script setup lang="ts">
/** A connection's test, each step shown as soon as it is known. */
import { onBeforeUnmount, ref, watch } from 'vue'

import { part, type TestStepBody } from '../api/client'
import { listen, type Stream } from '../api/events'
import { seconds } from '../plan/numbers'

const props = defineProps<{ connection: string }>()
const steps = ref<TestStepBody[]>([])
const ended = ref(false)
const lost = ref(false)
let source: Stream | null = null

function begin() {
  source?.close()
  steps.value = []
  ended.value = lost.value = false
  const hear = (name: string, data: string) => {
    if (name === 'step') steps.value.push(JSON.parse(data) as TestStepBody)
    if (name === 'end') { ended.value = true; source?.close() }
  }
  source = listen(`/connections/${part(props.connection)}/test/events`, hear, () => { ended.value = lost.value = true })
}
watch(() => props.connection, begin, { immediate: true })
onBeforeUnmount(() => source?.close())
</script>

<template>
  <ol class="steps" aria-live="polite">
    <li v-for="s in steps" :key="s.step + s.detail" :class="{ failed: !s.passed }">
      <i :class="s.passed ? 'pi pi-check' : 'pi pi-times'" aria-hidden="true" />
      <strong>{{ s.step }}</strong> <span>{{ s.detail }}</span> <small class="faint">{{ seconds(s.seconds) }}</small>
      <p v-if="!s.passed">Look at <strong>{{ s.setting }}</strong><template v-if="s.fix">: {{ s.fix }}</template></p>
    </li>
    <li v-if="lost" class="failed"><i class="pi pi-times" aria-hidden="true" /> <strong>The test was broken off:</strong> the service does not answer. <button class="again" @click="begin">Try again</button></li>
    <li v-else-if="!ended" class="faint"><i class="pi pi-spin pi-spinner" /> testing…</li>
  </ol>
</template>

<style scoped>
.steps { list-style: none; margin: 0.5rem 0 0; padding: 0.5rem 0.8rem; border-left: 2px solid var(--line); }
li { padding: 0.1rem 0; }
li i { color: var(--accent); margin-right: 0.4rem; font-size: 12px; }
li.failed i, li.failed strong { color: var(--failure); }
p { margin: 0.2rem 0 0 1.4rem; }
.again { background: none; border: none; padding: 0; color: var(--accent); font: inherit; text-decoration: underline; cursor: pointer; }
</style>
