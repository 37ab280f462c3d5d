<script setup lang="ts">
import { onMounted } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, asked } from '../api/client'

const route = useRoute()
const router = useRouter()
onMounted(async () => {
  const me = await asked(api.GET('/api/me')).catch(() => undefined)
  if (me) void router.replace('/')
})
</script>

<template>
  <main class="mx-auto max-w-lg px-6 pt-[16vh]">
    <h1 class="mb-3 text-xl font-semibold">This browser is not signed in</h1>
    <p v-if="route.query.link === 'used'" role="alert" class="mb-3 font-medium text-failed">
      This link was used already, or is older than ten minutes.
    </p>
    <p class="text-soft">In a terminal, in the folder of the service, run</p>
    <pre class="panel my-3 overflow-x-auto px-4 py-3 font-mono">wirewatch console</pre>
    <p class="text-soft">
      and open the link that it prints. It works once; this browser then stays signed in for thirty days. The demo
      prints such a link when it starts.
    </p>
  </main>
</template>
