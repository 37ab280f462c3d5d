/** What a broker told of an arrival, as names and values; headers each under its own name. */
export function flattened(told: Record<string, unknown>): [string, string][] {
  return Object.entries(told).flatMap(([name, value]): [string, string][] => {
    const words = name.replaceAll('_', ' ')
    if (name === 'headers' && value && typeof value === 'object') {
      return Object.entries(value).map(([header, one]) => [header, text(one)])
    }
    return [[words, text(value)]]
  })
}

const text = (value: unknown) => (typeof value === 'string' ? value : JSON.stringify(value))
