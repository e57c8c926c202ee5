<script setup lang="ts">
import type { ErrorBody } from '../api/client'

defineProps<{ error: ErrorBody }>()
/** Somebody wanted it so. */
const CANCELLED = 'cancelled'
</script>

<template>
  <div v-if="error.code === CANCELLED" class="stopped" role="status">{{ error.message }}</div>
  <div v-else class="error" role="alert">
    <strong>{{ error.message }}</strong>
    <span v-if="error.position" class="place">line {{ error.position.line }}, column {{ error.position.column }}</span>
    <p v-if="error.hint">{{ error.hint }}</p>
    <small class="mono">{{ error.code }} · {{ error.sqlstate }}</small>
  </div>
</template>

<style scoped>
.error { background: var(--failure-soft); border-left: 3px solid var(--failure); padding: 0.7rem 1rem; border-radius: 4px; }
.stopped { border-left: 3px solid var(--line); color: var(--faint); padding: 0.5rem 1rem; }
.error strong { color: var(--failure); font-weight: 600; }
.place { margin-left: 0.8rem; color: var(--faint); }
p { margin: 0.35rem 0; }
small { color: var(--faint); }
</style>
