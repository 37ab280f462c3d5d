<script setup lang="ts">
/** The queues of a broker: waiting messages, consumers, and our own deliveries. */
import { QueueListening } from '../api/schema'
import type { QueueView } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'
import { count, listed } from '../words/format'

const props = defineProps<{ name: string; queues: QueueView[] }>()

/** Messages in a dead-letter queue need attention: they were meant for another queue. */
const dead = (queue: QueueView) => props.queues.some((other) => other.dead_letters === queue.name)
const whose = (queue: QueueView) =>
  listed(props.queues.filter((other) => other.dead_letters === queue.name).map((other) => other.name))

function does(queue: QueueView): string {
  const flows = listed(queue.flows.map((flow) => titleOf('flows', flow)))
  if (queue.listening === QueueListening.yes) return `read by ${flows}`
  if (queue.listening === QueueListening.stopped) return `not read by ${flows}: ${queue.says}`
  if (dead(queue)) return `messages that ${whose(queue)} rejected or that expired`
  return queue.says
}
</script>

<template>
  <section class="mt-3 text-sm" :aria-labelledby="`queues-${name}`">
    <h3 :id="`queues-${name}`" class="heading mb-1">Queues</h3>
    <table class="w-full" data-part="queues">
      <thead class="sr-only">
        <tr>
          <th scope="col">Queue</th>
          <th scope="col">Waiting</th>
          <th scope="col">Consumers</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="queue in queues"
          :key="queue.name"
          class="border-t border-line align-baseline"
          :data-queue="queue.name"
        >
          <td class="py-1 pr-3">
            <code class="break-all">{{ queue.name }}</code>
            <p
              v-if="does(queue)"
              class="text-xs"
              :class="
                queue.listening === QueueListening.stopped || queue.messages == null ? 'text-failed' : 'text-soft'
              "
            >
              <span v-if="queue.listening === QueueListening.stopped || queue.messages == null" aria-hidden="true"
                >▲ </span
              >{{ does(queue) }}
            </p>
          </td>
          <td
            class="py-1 pr-3 text-right whitespace-nowrap"
            :class="dead(queue) && queue.messages ? 'font-medium text-failed' : ''"
          >
            <template v-if="queue.messages != null">
              <span v-if="dead(queue) && queue.messages" aria-hidden="true">▲ </span
              >{{ count(queue.messages, 'waits', 'wait') }}
            </template>
            <span v-else class="text-faint">not known</span>
          </td>
          <td class="py-1 text-right whitespace-nowrap text-soft">
            <template v-if="queue.consumers != null">{{ count(queue.consumers, 'consumer') }}</template>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
