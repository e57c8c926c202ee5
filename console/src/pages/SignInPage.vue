<script setup lang="ts">
/** What a window shows that nobody has signed in with. */
import Button from 'primevue/button'
import Password from 'primevue/password'
import { ref } from 'vue'

import { errorBody, type ErrorBody } from '../api/client'
import { signIn } from '../api/signIn'
import ErrorNote from '../components/ErrorNote.vue'

const token = ref('')
const busy = ref(false)
const error = ref<ErrorBody | null>(null)

async function enter() {
  busy.value = true
  error.value = null
  try {
    await signIn(token.value.trim())
  } catch (thrown) {
    error.value = errorBody(thrown)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="gate">
    <form @submit.prevent="enter">
      <div class="mark" aria-hidden="true">CL</div>
      <h1>Sign in to Cobble Lane</h1>
      <p class="faint">If you have started the service on this machine, ask for a link that opens the console:</p>
      <pre>cobble access link</pre>
      <p class="faint">Otherwise use the token that an administrator has given you.</p>
      <label for="token">Token</label>
      <Password v-model="token" input-id="token" :feedback="false" fluid autofocus />
      <ErrorNote v-if="error" :error="error" class="gap" />
      <Button type="submit" label="Sign in" class="enter" :loading="busy" :disabled="!token.trim()" />
    </form>
  </div>
</template>

<style scoped>
.gate { height: 100%; display: grid; place-items: center; background: var(--p-surface-ground, transparent); }
form { width: 26rem; max-width: 92vw; padding: 1.6rem 1.8rem; border: 1px solid var(--line); border-radius: 10px; background: var(--panel); }
.mark { width: 34px; height: 34px; border-radius: 9px; background: var(--accent); color: var(--p-primary-contrast-color); font-weight: 700; display: grid; place-items: center; }
h1 { font-size: 1.15rem; margin: 0.8rem 0 0.4rem; }
p { margin: 0.5rem 0; }
pre { margin: 0.3rem 0 0.6rem; padding: 0.45rem 0.7rem; border-radius: 6px; background: var(--accent-soft); overflow-x: auto; }
label { display: block; margin: 0.8rem 0 0.3rem; }
.gap { margin-top: 0.6rem; }
.enter { margin-top: 1rem; width: 100%; }
</style>
