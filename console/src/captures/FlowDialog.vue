<script setup lang="ts">
/** Makes a flow of a recorded item: asks for its name, then shows the files, their case, and how they get into the workspace. */
import { ref, shallowRef } from 'vue'
import { useRouter } from 'vue-router'
import { api, asked } from '../api/client'
import type { FirstFlow } from '../api/schema'
import ChangeDialog from '../releases/ChangeDialog.vue'
import ModalDialog from '../ui/ModalDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAct } from '../ui/useAct'

const props = defineProps<{ capture: string; n: number; /** Of the item; empty if it names none. */ event: string }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
/** `purchase.placed` suggests `purchase-placed`. */
const words = props.event.toLowerCase().match(/[a-z0-9]+/g)
const flow = ref(words?.join('-') ?? '')
const made = shallowRef<FirstFlow>()
const { busy, trouble, carryOut } = useAct(() => {})

const make = () =>
  carryOut(async () => {
    const params = { path: { name: props.capture, n: props.n } }
    made.value = await asked(api.POST('/api/captures/{name}/{n}/flow', { params, body: { flow: flow.value } }))
  })
function deployed() {
  emit('close')
  void router.push(`/flows/${encodeURIComponent(flow.value)}`)
}
</script>

<template>
  <ChangeDialog v-if="made" :title="`Flow ${flow}`" :files="made.files" @close="made = undefined" @deployed="deployed">
    <p class="mb-3 text-sm text-soft">
      The flow receives <template v-if="made.event">the event {{ made.event }}</template
      ><template v-else>what arrives</template> and writes a line into each message’s story; its next steps are yours.
      <code>wirewatch capture flow {{ capture }} {{ n }} --flow {{ flow }}</code> writes these files to a workspace
      folder. The case holds the document as it was recorded: replace personal data before you share it.
    </p>
  </ChangeDialog>
  <ModalDialog v-else :open="true" title="Make a flow of this" @close="$emit('close')">
    <form @submit.prevent="make">
      <p class="text-soft">
        Item {{ n }} becomes a connection or queue, a schema of all items with the same event, a flow, and a case.
        Nothing is deployed yet.
      </p>
      <label class="mt-4 block text-sm font-medium" for="flow-name">Name of the flow</label>
      <input
        id="flow-name"
        v-model.trim="flow"
        class="field mt-1 w-full font-mono"
        required
        autocomplete="off"
        placeholder="shop-orders"
      />
      <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
      <div class="mt-5 flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">Cancel</button>
        <button type="submit" class="button button-main" :disabled="busy">Show the files</button>
      </div>
    </form>
  </ModalDialog>
</template>
