import 'primeicons/primeicons.css'
import './style.css'

import PrimeVue from 'primevue/config'
import Tooltip from 'primevue/tooltip'
import { createPinia } from 'pinia'
import { createApp } from 'vue'

import App from './App.vue'
import { router } from './router'
import { Moss, useSavedScheme } from './theme'

useSavedScheme()
createApp(App)
  .use(createPinia())
  .use(router)
  .use(PrimeVue, { theme: { preset: Moss, options: { darkModeSelector: '.dark' } } })
  .directive('tooltip', Tooltip)
  .mount('#app')
