<script setup lang="ts">
/** What users of the service sign in with at one connection, in the place of what it has itself. */
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'

import { errorBody, get, part, put, remove, type ConnectionBody, type ErrorBody, type UserBody } from '../api/client'
import ErrorNote from './ErrorNote.vue'

const props = defineProps<{ connection: ConnectionBody | null }>()
const visible = defineModel<boolean>('visible', { required: true })
const emit = defineEmits<{ changed: [connection: ConnectionBody] }>()
const users = ref<string[] | null>(null)
const user = ref('')
const name = ref('')
const secret = ref('')
const busy = ref(false)
const error = ref<ErrorBody | null>(null)
const known = computed(() => Object.entries(props.connection?.credentials ?? {}))
const path = (of: string) => `/connections/${part(props.connection?.name ?? '')}/credentials/${part(of)}`

watch(visible, async (shown) => {
  if (!shown) return
  user.value = name.value = secret.value = ''
  error.value = null
  try {
    users.value = (await get<UserBody[]>('/users')).map((user) => user.name)
  } catch (thrown) {
    error.value = errorBody(thrown)
  }
})

async function change(work: () => Promise<ConnectionBody>) {
  busy.value = true
  error.value = null
  try {
    emit('changed', await work())
    user.value = name.value = secret.value = ''
  } catch (thrown) {
    error.value = errorBody(thrown)
  } finally {
    busy.value = false
  }
}
const keep = () => change(() => put<ConnectionBody>(path(user.value), { user: name.value.trim() || undefined, secret: secret.value }))
const forget = (of: string) => change(() => remove<ConnectionBody>(path(of)))
</script>

<template>
  <Dialog v-model:visible="visible" modal :header="`Who signs in at ${connection?.name} as themselves`" :style="{ width: '34rem' }">
    <table v-if="known.length" class="plain-table"><thead><tr><th>user</th><th>name there</th><th>secret</th><th /></tr></thead>
      <tbody><tr v-for="[of, own] in known" :key="of"><td>{{ of }}</td><td>{{ own.user ?? connection?.user ?? '' }}</td><td class="faint">hidden</td><td><Button icon="pi pi-times" size="small" text severity="secondary" :aria-label="`Forget the credentials of ${of}`" :disabled="busy" @click="forget(of)" /></td></tr></tbody></table>
    <p v-else class="faint">No user has credentials of their own: all queries use the connection's.</p>
    <form v-if="users" class="form" @submit.prevent="keep">
      <label for="of">User</label><Select v-model="user" input-id="of" :options="users ?? []" aria-label="User" />
      <label for="name-there">Name there</label><InputText id="name-there" v-model="name" :placeholder="connection?.user ?? ''" />
      <label for="own-secret">Secret</label><Password v-model="secret" input-id="own-secret" :feedback="false" fluid />
      <div class="wide buttons"><Button label="Close" text severity="secondary" @click="visible = false" /><Button type="submit" label="Keep" :loading="busy" :disabled="!user || !secret" /></div>
    </form>
    <ErrorNote v-if="error" :error="error" />
  </Dialog>
</template>

<style scoped>
.form { display: grid; grid-template-columns: 9rem 1fr; gap: 0.6rem 0.8rem; align-items: center; margin-top: 0.9rem; }
.wide { grid-column: 1 / -1; }
.buttons { display: flex; justify-content: flex-end; gap: 0.6rem; }
</style>
