/** A figure beside that of the range before it: "41 before", "+24 % on before". */
export function change(now: number, before: number): string {
  if (now === before) return 'as in the range before'
  if (before === 0) return 'none in the range before'
  const percent = Math.round(((now - before) / before) * 100)
  return `${percent > 0 ? '+' : '−'}${Math.abs(percent)} % on the range before (${before})`
}
