import '@fontsource-variable/schibsted-grotesk/wght.css'
import '@fontsource-variable/spline-sans-mono/wght.css'
import './theme/tokens.css'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'

createApp(App).use(createPinia()).use(router).mount('#app')
