/** What an amendment begins at, and what it has changed. */

export interface Place {
  /** Counts from 1. */
  line: number
  /** Columns, counted from 0: the first, and the one after the last. */
  from: number
  to: number
}

/** Returns the first place where a text has one of these values whole: with no letter or digit beside it. */
export function placeOf(text: string, values: string[]): Place | undefined {
  const whole = (value: string, line: string) => {
    for (let at = line.indexOf(value); at >= 0; at = line.indexOf(value, at + 1)) {
      const beside = [line[at - 1], line[at + value.length]]
      if (!beside.some((one) => one && /[\p{L}\p{N}]/u.test(one))) return at
    }
    return -1
  }
  const lines = text.split('\n')
  for (const value of values.filter((one) => one !== '')) {
    for (const [n, line] of lines.entries()) {
      const from = whole(value, line)
      if (from >= 0) return { line: n + 1, from, to: from + value.length }
    }
  }
  return undefined
}

/** Returns the lines that differ, without the equal lines at the beginning and the end. */
export function changedLines(before: string, after: string): { before: string[]; after: string[] } {
  const [old, now] = [before.split('\n'), after.split('\n')]
  let start = 0
  while (start < old.length && start < now.length && old[start] === now[start]) start++
  let end = 0
  const most = Math.min(old.length, now.length) - start
  while (end < most && old[old.length - 1 - end] === now[now.length - 1 - end]) end++
  return { before: old.slice(start, old.length - end), after: now.slice(start, now.length - end) }
}
