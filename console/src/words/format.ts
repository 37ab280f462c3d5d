/** Formats numbers, durations and times. */

const whole = new Intl.NumberFormat(undefined)

/** 12,345. */
export const figure = (n: number) => whole.format(n)

/** "1 order", "34 orders". */
export const count = (n: number, one: string, many = `${one}s`) => `${figure(n)} ${n === 1 ? one : many}`

/** A duration in one unit that fits: 840 µs, 14 ms, 2.4 s, 3 min, 5 h, 2 d. */
export function span(ms: number): string {
  const micros = Math.round(ms * 1000)
  if (micros <= 0) return '0 ms'
  if (micros < 1000) return `${micros} µs`
  if (ms < 1000) return `${Math.round(ms)} ms`
  const seconds = ms / 1000
  if (seconds < 9.95) return `${seconds.toFixed(1)} s`
  if (seconds < 60) return `${Math.floor(seconds)} s`
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min`
  if (seconds < 86_400) return `${Math.floor(seconds / 3600)} h`
  return `${Math.floor(seconds / 86_400)} d`
}

/** How long something took, exact enough to compare: 102 s, 3 min 24 s, 2 h 5 min, 3 d 4 h. */
export function took(us: number): string {
  const seconds = Math.round(us / 1e6)
  if (us < 9_950_000) return span(us / 1000)
  if (seconds < 120) return `${seconds} s`
  const parts = (large: number, one: string, small: number, other: string) =>
    small ? `${large} ${one} ${small} ${other}` : `${large} ${one}`
  if (seconds < 7200) return parts(Math.floor(seconds / 60), 'min', seconds % 60, 's')
  const minutes = Math.floor(seconds / 60)
  if (minutes < 2880) return parts(Math.floor(minutes / 60), 'h', minutes % 60, 'min')
  const hours = Math.floor(minutes / 60)
  return parts(Math.floor(hours / 24), 'd', hours % 24, 'h')
}

/** The time relative to now: "just now", "3 min ago", "in 4 s". */
export function distance(at: number, now: number): string {
  const apart = now - at
  if (Math.abs(apart) < 1000) return 'just now'
  const words = Math.abs(apart) < 10_000 ? `${Math.round(Math.abs(apart) / 1000)} s` : span(Math.abs(apart))
  return apart > 0 ? `${words} ago` : `in ${words}`
}

/** The time of day; with the date if it is not today. */
export function clock(at: Date, now: Date): string {
  const time = at.toLocaleTimeString(undefined, {
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    hourCycle: 'h23',
  })
  if (at.toDateString() === now.toDateString()) return time
  return `${at.toLocaleDateString(undefined, { day: 'numeric', month: 'short' })} ${time}`
}

/** The exact time in UTC. */
export const exact = (at: string) => at.replace('T', ' ').replace('Z', ' UTC')

/** 512 bytes, 3.4 KB, 5.2 MB. */
export function bytes(n: number): string {
  if (n < 1024) return count(n, 'byte')
  if (n < 1024 * 1024) return `${(n / 1024).toFixed(1)} KB`
  return `${(n / 1024 / 1024).toFixed(1)} MB`
}

/** "a", "a and b", "a, b and c". */
export function listed(words: string[]): string {
  if (words.length < 2) return words[0] ?? ''
  return `${words.slice(0, -1).join(', ')} and ${words.at(-1)}`
}
