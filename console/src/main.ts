import { createApp } from 'vue'
import App from './App.vue'
import { preloadPages, router } from './router'
import './style.css'

createApp(App).use(router).mount('#app')
// After the first page, load all others too: then they open at once, also while the service cannot be reached.
void router.isReady().then(() => requestIdleCallback(preloadPages))
