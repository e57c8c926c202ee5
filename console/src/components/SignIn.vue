<script setup lang="ts">
/** Who is signed in, and signing out. */
import Button from 'primevue/button'

import { caller, signOut } from '../api/signIn'
</script>

<template>
  <Button v-if="caller" class="who" text severity="secondary" :aria-label="`Signed in as ${caller.user} (${caller.role}); sign out`" :title="`${caller.user} (${caller.role}): sign out`" @click="signOut"><i class="pi pi-sign-out" aria-hidden="true" /><span>{{ caller.user }}</span></Button>
</template>

<style scoped>
.who { align-self: center; flex-direction: column; gap: 0.2rem; font-size: 12px; max-width: 72px; }
.who span { max-width: 68px; overflow: hidden; text-overflow: ellipsis; }
</style>
