/** Properties of an arrival as names and values; each header has its own name. */
export function flattened(properties: Record<string, unknown>): [string, string][] {
  return Object.entries(properties).flatMap(([name, value]): [string, string][] => {
    const words = name.replaceAll('_', ' ')
    if (name === 'headers' && value && typeof value === 'object') {
      return Object.entries(value).map(([header, one]) => [header, text(one)])
    }
    return [[words, text(value)]]
  })
}

const text = (value: unknown) => (typeof value === 'string' ? value : JSON.stringify(value))
