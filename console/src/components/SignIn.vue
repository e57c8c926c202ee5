<script setup lang="ts">
/** Who the service takes this browser for, and signing in with a token. */
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import Password from 'primevue/password'
import { onMounted, ref } from 'vue'

import { errorBody, get, post, remove, type CallerBody, type ErrorBody } from '../api/client'
import ErrorNote from './ErrorNote.vue'

const user = ref<string | null>(null)
const visible = ref(false)
const token = ref('')
const busy = ref(false)
const error = ref<ErrorBody | null>(null)

/** All that is on the page was read as somebody else. */
const reload = () => location.reload()

async function signIn() {
  busy.value = true
  error.value = null
  try {
    await post<CallerBody>('/caller', { token: token.value.trim() })
    reload()
  } catch (thrown) {
    error.value = errorBody(thrown)
  } finally {
    busy.value = false
  }
}

async function signOut() {
  await remove<CallerBody>('/caller')
  reload()
}

onMounted(async () => {
  try {
    user.value = (await get<CallerBody>('/caller')).user ?? null
  } catch (thrown) {
    // The token that this browser keeps is nobody's any more.
    if (errorBody(thrown).code === 'not_signed_in') await remove('/caller').then(reload, () => undefined)
  }
})
</script>

<template>
  <Button v-if="user" class="who" text severity="secondary" :aria-label="`Signed in as ${user}; sign out`" title="Sign out" @click="signOut"><i class="pi pi-user" aria-hidden="true" /><span>{{ user }}</span></Button>
  <Button v-else class="who" icon="pi pi-user" text severity="secondary" aria-label="Sign in" title="Sign in" @click="visible = true" />
  <Dialog v-model:visible="visible" modal header="Sign in" :style="{ width: '28rem' }">
    <form @submit.prevent="signIn">
      <p class="faint">Sources that you have credentials of your own for are then read as you, and your runs are yours alone. A token is made with <code>cobble access add NAME</code>.</p>
      <label for="token">Token</label>
      <Password v-model="token" input-id="token" :feedback="false" fluid />
      <ErrorNote v-if="error" :error="error" class="gap" />
      <div class="buttons"><Button label="Cancel" text severity="secondary" @click="visible = false" /><Button type="submit" label="Sign in" :loading="busy" :disabled="!token.trim()" /></div>
    </form>
  </Dialog>
</template>

<style scoped>
.who { align-self: center; flex-direction: column; gap: 0.2rem; font-size: 12px; max-width: 72px; }
.who span { max-width: 68px; overflow: hidden; text-overflow: ellipsis; }
label { display: block; margin: 0.6rem 0 0.3rem; }
.gap { margin-top: 0.6rem; }
.buttons { display: flex; justify-content: flex-end; gap: 0.6rem; margin-top: 0.9rem; }
</style>
