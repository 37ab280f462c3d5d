/**
 * The single values of a JSON text with their positions. A change replaces only the characters of that value, so all
 * other text stays unchanged, including all digits of numbers.
 */
import { jsonLanguage } from '@codemirror/lang-json'

type SyntaxNode = ReturnType<typeof jsonLanguage.parser.parse>['topNode']

export type Kind = 'string' | 'number' | 'boolean' | 'null'

export interface Place {
  /** Path with list positions: `basket[0].article`. */
  key: string
  /** Path as in schemas: `basket[].article`. */
  path: string
  value: string
  kind: Kind
  from: number
  to: number
}

/** An object in a list. */
export interface Item {
  key: string
  from: number
  to: number
}

export interface Shape {
  places: Place[]
  items: Item[]
}

const kinds: Record<string, Kind> = {
  String: 'string',
  Number: 'number',
  True: 'boolean',
  False: 'boolean',
  Null: 'null',
}

/** Parses a text; `undefined` if it is not JSON. */
export function shapeOf(text: string): Shape | undefined {
  try {
    JSON.parse(text)
  } catch {
    return undefined
  }
  const shape: Shape = { places: [], items: [] }
  const value = (node: SyntaxNode, key: string, path: string) => {
    const raw = text.slice(node.from, node.to)
    const { from, to } = node
    if (node.name === 'Object') {
      for (const property of node.getChildren('Property')) {
        const name = property.firstChild
        const own = property.lastChild
        if (!name || !own) continue
        const called = JSON.parse(text.slice(name.from, name.to)) as string
        const below = (of: string) => (of ? `${of}.${called}` : called)
        value(own, below(key), below(path))
      }
    } else if (node.name === 'Array') {
      let n = 0
      for (let one = node.firstChild; one; one = one.nextSibling) {
        if (one.name !== 'Object' && one.name !== 'Array' && !kinds[one.name]) continue
        const own = `${key}[${n++}]`
        if (one.name === 'Object') shape.items.push({ key: own, from: one.from, to: one.to })
        value(one, own, `${path}[]`)
      }
    } else {
      const kind = kinds[node.name]
      if (kind)
        shape.places.push({ key, path, from, to, kind, value: kind === 'string' ? (JSON.parse(raw) as string) : raw })
    }
  }
  const root = jsonLanguage.parser.parse(text).topNode.firstChild
  if (root) value(root, '', '')
  return shape
}

const NUMBER = /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/

/** Returns the text with a new value, written for its type. */
export function put(text: string, place: Place, value: string, kind: string = place.kind): string {
  const asIs =
    ((kind === 'number' || kind === 'integer') && NUMBER.test(value)) ||
    (kind === 'boolean' && (value === 'true' || value === 'false')) ||
    (place.kind === 'null' && value === 'null')
  return text.slice(0, place.from) + (asIs ? value : JSON.stringify(value)) + text.slice(place.to)
}

/** Returns the text with a copy of this item after it. */
export function more(text: string, item: Item): string {
  const indent = /\n[ \t]*$/.exec(text.slice(0, item.from))?.[0] ?? ' '
  return `${text.slice(0, item.to)},${indent}${text.slice(item.from, item.to)}${text.slice(item.to)}`
}

/** Returns the text without this item. */
export function less(text: string, item: Item): string {
  const before = text.slice(0, item.from)
  const after = text.slice(item.to)
  const next = /^\s*,\s*/.exec(after)
  return next ? before + after.slice(next[0].length) : before.replace(/,?\s*$/, '') + after
}

/** Bytes of an ISA segment with its terminator (X12.5). */
const HEADER = 106

/**
 * Returns an interchange with another control number, in ISA13 and IEA02, since the same number would make it a duplicate. Other
 * texts are returned as they are.
 */
export function withFreshControl(text: string, now: number): string {
  const separator = text[3] ?? ''
  const [header, rest] = [text.slice(0, HEADER), text.slice(HEADER)]
  const control = header.split(separator)[13] ?? ''
  const trailer = rest.lastIndexOf(`IEA${separator}`)
  const at = rest.indexOf(separator + control, trailer + 4)
  if (!text.startsWith('ISA') || !/^\d{9}$/.test(control) || trailer < 0 || at < 0) return text
  const fresh = String(Math.floor(now / 1000) % 1_000_000_000).padStart(9, '0')
  const end = rest.slice(at).replace(control, fresh)
  return header.replace(separator + control + separator, separator + fresh + separator) + rest.slice(0, at) + end
}
