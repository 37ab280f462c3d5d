/** Durations by which lists can be filtered. */

/** Durations that end now, by their word in the address. */
export const withins: { value: string; text: string; ms: number }[] = [
  { value: '1m', text: 'the last minute', ms: 60_000 },
  { value: '15m', text: 'the last 15 minutes', ms: 900_000 },
  { value: '1h', text: 'the last hour', ms: 3_600_000 },
  { value: '1d', text: 'the last day', ms: 86_400_000 },
  { value: '7d', text: 'the last 7 days', ms: 604_800_000 },
]

/** Converts filters to those of the API: a duration that ends now becomes its start time, and replaces two times. */
export function toQuery(filters: Partial<Record<string, string>>, now: number): Record<string, string> {
  const { within, since, until, ...others } = filters
  const span = withins.find((one) => one.value === within)
  const times = span ? { since: new Date(now - span.ms).toISOString() } : { since, until }
  const given = Object.entries({ ...others, ...times }).filter((pair): pair is [string, string] => !!pair[1])
  return Object.fromEntries(given)
}

/** Formats a time for a field of local times; empty for none. */
export function toLocal(at: string): string {
  const moment = new Date(at)
  if (Number.isNaN(moment.getTime())) return ''
  const two = (n: number) => String(n).padStart(2, '0')
  const day = `${moment.getFullYear()}-${two(moment.getMonth() + 1)}-${two(moment.getDate())}`
  return `${day}T${two(moment.getHours())}:${two(moment.getMinutes())}`
}

/** Returns the exact time of a local time; empty for none. */
export function fromLocal(text: string): string {
  const moment = new Date(text)
  return Number.isNaN(moment.getTime()) ? '' : moment.toISOString()
}
