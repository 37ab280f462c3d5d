import { shallowReadonly, shallowRef } from 'vue'
import { api, asked } from '../api/client'
import type { Named, Workspace } from '../api/schema'

const workspace = shallowRef<Workspace>({
  title: '',
  environment: null,
  release: 0,
  flows: [],
  partners: [],
  connections: [],
  plans: [],
})
let loading: Promise<void> | undefined

async function load() {
  workspace.value = await asked(api.GET('/api/workspace'))
}

/** The names of flows, partners, connections and plans; asked for once, and anew on request. */
export function useWorkspace() {
  // Whoever could not be told asks again with the next page.
  loading ??= load().catch(() => void (loading = undefined))
  return shallowReadonly(workspace)
}

/** Asks anew, e.g. after a release. */
export function refreshWorkspace() {
  loading = load().catch(() => void (loading = undefined))
}

type Part = 'flows' | 'partners' | 'connections' | 'plans'

/** The title of a part of the workspace; its name where it has none, nothing where there is no name. */
export const titleOf = (part: Part, name: string | null) =>
  workspace.value[part].find((one: Named) => one.name === name)?.title || (name ?? '')

/** A part's names for a filter. */
export const optionsOf = (part: Part) =>
  workspace.value[part].map(({ name, title }) => ({ value: name, text: title || name }))
