<script setup lang="ts">
/** Settings for the sender of a webhook, its events with their counts, and rejected calls. */
import { ref, shallowRef } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import type { WebhookView } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'
import CopyButton from '../ui/CopyButton.vue'
import ModalDialog from '../ui/ModalDialog.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { count } from '../words/format'

/** How long the earlier secret stays valid while the sender changes it. */
const KEEP_SECONDS = 24 * 3600

const props = defineProps<{ name: string; webhook: WebhookView }>()
const emit = defineEmits<{ changed: [] }>()
const asking = ref(false)
const made = ref('')
const trouble = shallowRef<Trouble>()

function ask() {
  asking.value = true
  made.value = ''
  trouble.value = undefined
}
async function make() {
  if (!props.webhook.secret) return
  try {
    const params = { path: { name: props.webhook.secret } }
    const set = await asked(api.PUT('/api/secrets/{name}', { params, body: { keep_seconds: KEEP_SECONDS } }))
    made.value = set.value ?? ''
    emit('changed')
  } catch (error) {
    trouble.value = troubleOf(error)
  }
}
</script>

<template>
  <div class="mt-3 space-y-3 text-sm">
    <section :aria-labelledby="`sender-${name}`">
      <h3 :id="`sender-${name}`" class="heading mb-1">Set up at the sender</h3>
      <dl class="grid grid-cols-[max-content_minmax(0,1fr)] items-center gap-x-4 gap-y-1">
        <dt class="text-faint">Address</dt>
        <dd class="flex items-center gap-1">
          <code class="truncate" data-part="address" :title="webhook.address">{{ webhook.address }}</code>
          <CopyButton :text="webhook.address" what="address" />
        </dd>
        <template v-if="webhook.local_only">
          <dt />
          <dd class="text-soft">
            Only this machine can reach it. For other senders, start the service with
            <code class="whitespace-nowrap">--public URL</code>.
          </dd>
        </template>
        <template v-for="old_paths in webhook.old_paths" :key="old_paths">
          <dt class="text-faint">Before</dt>
          <dd class="truncate text-soft">
            <code>{{ old_paths }}</code> still answers
          </dd>
        </template>
        <dt class="text-faint">Signed</dt>
        <dd v-if="webhook.signed">{{ webhook.signed }}</dd>
        <dd v-else class="font-medium text-failed">▲ Not signed: anybody who knows the address can send calls.</dd>
        <template v-if="webhook.secret">
          <dt class="text-faint">Secret</dt>
          <dd class="flex flex-wrap items-center gap-x-2">
            <code>{{ webhook.secret }}</code>
            <span v-if="webhook.secret_is_set" class="text-soft">is set</span>
            <span v-else class="font-medium text-failed">▲ is not set: every call is rejected</span>
            <button type="button" class="link" @click="ask">
              {{ webhook.secret_is_set ? 'Change…' : 'Make one…' }}
            </button>
          </dd>
        </template>
      </dl>
    </section>
    <section :aria-labelledby="`events-${name}`">
      <h3 :id="`events-${name}`" class="heading mb-1">Events</h3>
      <table v-if="webhook.events.length" class="w-full" data-part="events">
        <thead class="sr-only">
          <tr>
            <th scope="col">Event</th>
            <th scope="col">Calls</th>
            <th scope="col">Used by</th>
            <th scope="col">Last</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in webhook.events" :key="one.event" class="border-t border-line">
            <td class="py-1 pr-3">
              <span class="flex items-center gap-1">
                <code class="truncate">{{ one.event }}</code>
                <CopyButton :text="one.event" :what="`name of ${one.event}`" />
              </span>
            </td>
            <td class="py-1 pr-3 text-right whitespace-nowrap">
              {{ one.calls ? count(one.calls, 'call') : 'no call yet' }}
            </td>
            <td class="py-1 pr-3 text-soft">
              {{ one.flows.map((flow) => titleOf('flows', flow)).join(', ') || 'no flow' }}
            </td>
            <td class="py-1 text-right">
              <RouterLink v-if="one.arrival && one.last" :to="`/arrivals/${one.arrival}`" class="link"
                ><TimeText :at="one.last"
              /></RouterLink>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-else class="text-soft">No calls yet. Calls to the address are shown here.</p>
    </section>
    <p v-if="webhook.turned_away" data-part="turned-away">
      <span aria-hidden="true" class="text-failed">▲ </span>{{ count(webhook.turned_away.calls, 'call') }} rejected
      since the service started, the last <TimeText :at="webhook.turned_away.last" />: {{ webhook.turned_away.says }}.
    </p>
    <p v-if="webhook.checked" class="text-soft">The address was checked, <TimeText :at="webhook.checked" />.</p>
    <ModalDialog :open="asking" :title="made ? 'The new secret' : 'Create a new secret'" @close="asking = false">
      <template v-if="made">
        <p class="text-soft">Give it to the sender now: it is shown only once.</p>
        <p class="mt-3 flex items-center gap-2 rounded-md bg-sunken px-3 py-2">
          <code class="break-all" data-part="secret">{{ made }}</code>
          <CopyButton :text="made" what="secret" />
        </p>
        <div class="mt-5 flex justify-end">
          <button type="button" class="button button-main" @click="asking = false">Done</button>
        </div>
      </template>
      <form v-else @submit.prevent="make">
        <p class="text-soft">
          From now on, calls must be signed with it.
          <template v-if="webhook.secret_is_set"
            >The earlier secret stays valid for 24 hours, so that the sender has time to change it.</template
          >
        </p>
        <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
        <div class="mt-5 flex justify-end gap-2">
          <button type="button" class="button" @click="asking = false">Cancel</button>
          <button type="submit" class="button button-main">Create</button>
        </div>
      </form>
    </ModalDialog>
  </div>
</template>
