<script setup lang="ts">
import Button from 'primevue/button'
import { RouterLink, RouterView, useRoute } from 'vue-router'

import { secret } from './api/secret'
import SignIn from './components/SignIn.vue'
import SignInPage from './pages/SignInPage.vue'
import { switchScheme } from './theme'

const route = useRoute()
/** Pages below a place are part of it. */
const isHere = (to: string) => route.path === to || route.path.startsWith(`${to}/`)
const places = [
  { to: '/query', icon: 'pi pi-code', label: 'Query' },
  { to: '/catalogs', icon: 'pi pi-database', label: 'Catalogs' },
  { to: '/runs', icon: 'pi pi-history', label: 'Runs' },
]
</script>

<template>
  <SignInPage v-if="secret === null" />
  <div v-else class="shell">
    <nav class="rail" aria-label="Pages">
      <div class="mark" aria-hidden="true">CL</div>
      <RouterLink v-for="p in places" :key="p.to" :to="p.to" :class="['place', { here: isHere(p.to) }]" active-class="">
        <i :class="p.icon" aria-hidden="true" /><span>{{ p.label }}</span>
      </RouterLink>
      <div class="end"><SignIn />
      <Button class="scheme" icon="pi pi-moon" text severity="secondary" aria-label="Switch between light and dark" @click="switchScheme" /></div>
    </nav>
    <main><RouterView v-slot="{ Component }"><KeepAlive include="QueryPage"><component :is="Component" /></KeepAlive></RouterView></main>
  </div>
</template>

<style scoped>
.shell { display: flex; height: 100%; }
.rail { width: 76px; flex: none; display: flex; flex-direction: column; align-items: stretch; background: var(--panel); border-right: 1px solid var(--line); padding: 0.6rem 0; }
.mark { align-self: center; width: 34px; height: 34px; border-radius: 9px; background: var(--accent); color: var(--p-primary-contrast-color); font-weight: 700; display: grid; place-items: center; margin-bottom: 0.8rem; }
.place { display: flex; flex-direction: column; align-items: center; gap: 0.2rem; padding: 0.6rem 0; color: var(--faint); font-size: 12px; border-left: 3px solid transparent; }
.place i { font-size: 1.15rem; }
.place:hover { color: var(--text); text-decoration: none; }
.place.here { color: var(--accent); border-left-color: var(--accent); background: var(--accent-soft); }
.end { margin-top: auto; display: flex; flex-direction: column; }
.scheme { align-self: center; }
main { flex: 1; min-width: 0; height: 100%; }
</style>
