import 'primeicons/primeicons.css'
import './style.css'

import PrimeVue from 'primevue/config'
import Tooltip from 'primevue/tooltip'
import { createPinia } from 'pinia'
import { createApp } from 'vue'

import { begin } from './api/signIn'
import App from './App.vue'
import { Moss, useSavedScheme } from './theme'

useSavedScheme()
await begin()
// It keeps the address that it finds.
const { router } = await import('./router')
createApp(App)
  .use(createPinia())
  .use(router)
  .use(PrimeVue, { theme: { preset: Moss, options: { darkModeSelector: '.dark' } } })
  .directive('tooltip', Tooltip)
  .mount('#app')
