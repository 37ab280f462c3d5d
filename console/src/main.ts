import { createApp } from 'vue'
import App from './App.vue'
import { preloadPages, router } from './router'
import './style.css'

createApp(App).use(router).mount('#app')
// Once the first page is there, the others are fetched too: they open at once, and also while the service is away.
void router.isReady().then(() => requestIdleCallback(preloadPages))
