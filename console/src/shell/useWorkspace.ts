import { shallowReadonly, shallowRef } from 'vue'
import { api, asked } from '../api/client'
import type { Named, Workspace } from '../api/schema'

const workspace = shallowRef<Workspace>({
  title: '',
  environment: null,
  release: 0,
  deploy_from_console: false,
  flows: [],
  partners: [],
  connections: [],
  plans: [],
})
let loading: Promise<void> | undefined

async function load() {
  workspace.value = await asked(api.GET('/api/workspace'))
}

/** The names of flows, partners, connections and plans; loaded once, and again on request. */
export function useWorkspace() {
  // After an error, the next page tries again.
  loading ??= load().catch(() => void (loading = undefined))
  return shallowReadonly(workspace)
}

/** Reloads, e.g. after a deploy. */
export function refreshWorkspace(): Promise<void> {
  loading = load().catch(() => void (loading = undefined))
  return loading
}

/** True if the running release has this flow. The names are loaded again before one is called unknown. */
export async function hasFlow(name: string): Promise<boolean> {
  const known = () => workspace.value.flows.some((flow) => flow.name === name)
  useWorkspace()
  await loading
  if (!known()) await refreshWorkspace()
  return known()
}

type Part = 'flows' | 'partners' | 'connections' | 'plans'

/** Returns the title of a part of the workspace, or its name if it has no title; empty for an empty name. */
export const titleOf = (part: Part, name: string | null) =>
  workspace.value[part].find((one: Named) => one.name === name)?.title || (name ?? '')

/** Returns the names of a kind of part for a filter. */
export const optionsOf = (part: Part) =>
  workspace.value[part].map(({ name, title }) => ({ value: name, text: title || name }))
