<script setup lang="ts">
/** Two documents of the same form side by side, with changes marked. */
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

const props = defineProps<{ form: string; before: string; after: string; beforeLabel: string; afterLabel: string }>()
const parent = ref<HTMLElement>()
let made: { destroy(): void } | undefined

async function make() {
  const { compare } = await import('./codemirror')
  made?.destroy()
  if (!parent.value) return
  const { form } = props
  made = compare(
    parent.value,
    { text: props.before, form, label: props.beforeLabel },
    { text: props.after, form, label: props.afterLabel },
  )
}
onMounted(make)
onBeforeUnmount(() => made?.destroy())
watch(() => [props.before, props.after], make)
</script>

<template>
  <div>
    <div class="grid grid-cols-2 border-b border-line text-xs text-faint">
      <p class="px-3 py-1.5">{{ beforeLabel }}</p>
      <p class="px-3 py-1.5">{{ afterLabel }}</p>
    </div>
    <div ref="parent" class="max-h-[32rem] overflow-auto" />
  </div>
</template>
