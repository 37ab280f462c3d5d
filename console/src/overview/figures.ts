/** A figure beside that of the range before it: "none before", "41 before, +24 %". */
export function change(now: number, before: number): string {
  if (now === before) return `${before || 'none'} before`
  if (before === 0) return 'none before'
  const percent = Math.round(((now - before) / before) * 100)
  return `${before} before, ${percent > 0 ? '+' : '−'}${Math.abs(percent)} %`
}
