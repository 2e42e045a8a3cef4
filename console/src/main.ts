import '@fontsource-variable/inter'
import 'vuetify/styles'
import './look.css'

import { createPinia } from 'pinia'
import { createApp } from 'vue'

import { api } from './api/client'
import App from './App.vue'
import { router } from './router'
import { useClock } from './stores/clock'
import { vuetify } from './theme'

const app = createApp(App).use(createPinia())
const clock = useClock()
// Every answer tells the service's time.
api.use({
  onResponse({ response }) {
    const at = response.headers.get('herald-time')
    if (at) clock.learn(at, Number(response.headers.get('herald-time-scale') ?? 1))
  },
})
app.use(router).use(vuetify).mount('#app')
