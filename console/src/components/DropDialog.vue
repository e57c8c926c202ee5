<script setup lang="ts">
/** Asks before something is dropped, and says what depends on it. */
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { ref, watch } from 'vue'

import { errorBody, get, remove, type DependentsBody, type ErrorBody } from '../api/client'
import ErrorNote from './ErrorNote.vue'

const props = defineProps<{ what: string; path: string }>()
const visible = defineModel<boolean>('visible', { required: true })
const emit = defineEmits<{ dropped: [] }>()
const dependents = ref<DependentsBody | null>(null)
const error = ref<ErrorBody | null>(null)
const busy = ref(false)

watch(visible, async (shown) => {
  if (!shown) return
  dependents.value = null
  error.value = null
  try {
    dependents.value = await get<DependentsBody>(`${props.path}/dependents`)
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
})

async function drop() {
  busy.value = true
  try {
    await remove(props.path)
    visible.value = false
    emit('dropped')
  } catch (thrown) {
    error.value = errorBody(thrown)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <Dialog v-model:visible="visible" modal :header="`Drop ${what}?`" :style="{ width: '30rem' }">
    <p v-if="!dependents && !error" class="faint">Looking for what depends on it…</p>
    <template v-if="dependents">
      <p v-if="dependents.blocking.length">It is in use. Drop these first:</p>
      <ul v-if="dependents.blocking.length"><li v-for="d in dependents.blocking" :key="d">{{ d }}</li></ul>
      <p v-if="dependents.lost.length">These go with it or fail without it:</p>
      <ul v-if="dependents.lost.length"><li v-for="d in dependents.lost" :key="d">{{ d }}</li></ul>
      <p v-if="!dependents.blocking.length && !dependents.lost.length">Nothing else depends on it.</p>
      <p class="faint">The source itself is not touched.</p>
    </template>
    <ErrorNote v-if="error" :error="error" />
    <div class="buttons"><Button label="Cancel" text severity="secondary" @click="visible = false" /><Button label="Drop" :loading="busy" :disabled="!dependents || dependents.blocking.length > 0" @click="drop" /></div>
  </Dialog>
</template>

<style scoped>
.buttons { display: flex; justify-content: flex-end; gap: 0.6rem; margin-top: 0.8rem; }
ul { margin: 0.2rem 0 0.6rem; padding-left: 1.2rem; }
</style>
