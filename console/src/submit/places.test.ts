import { expect, test } from 'vitest'
import { less, more, put, shapeOf, withFreshControl } from './places'

const order = `{
  "number": "W-1",
  "id": 12345678901234567890,
  "basket": [
    { "article": "V-1", "count": 2, "price": 1.10 },
    { "article": "V-2", "count": 1, "price": 7 }
  ],
  "gift": false,
  "note": null
}`
const at = (text: string, key: string) => {
  const place = shapeOf(text)?.places.find((one) => one.key === key)
  if (!place) throw new Error(`nothing at ${key}`)
  return place
}

test('each value is found by its place', () => {
  const found = shapeOf(order)?.places.map((one) => [one.key, one.path, one.value, one.kind])
  expect(found).toContainEqual(['basket[1].article', 'basket[].article', 'V-2', 'string'])
  expect(found).toContainEqual(['basket[0].price', 'basket[].price', '1.10', 'number'])
  expect(found).toContainEqual(['note', 'note', 'null', 'null'])
  expect(found).toHaveLength(10)
  expect(shapeOf('{ "a": ')).toBeUndefined()
})

test('what nobody touched stays as it was written', () => {
  const changed = put(order, at(order, 'number'), 'W-"2"')
  expect(changed).toBe(order.replace('"W-1"', '"W-\\"2\\""'))
  expect(put(order, at(order, 'basket[0].count'), '3')).toBe(order.replace('"count": 2', '"count": 3'))
  expect(put(order, at(order, 'gift'), 'true')).toBe(order.replace('false', 'true'))
})

test('a number half typed is a text until it is one again', () => {
  const half = put(order, at(order, 'basket[1].price'), '7.', 'number')
  expect(half).toContain('"price": "7."')
  expect(put(half, at(half, 'basket[1].price'), '7.5', 'number')).toContain('"price": 7.5')
  expect(put(order, at(order, 'note'), 'soon')).toContain('"note": "soon"')
})

test('items come and go', () => {
  const [first, second] = shapeOf(order)?.items ?? []
  if (!first || !second) throw new Error('two items')
  const longer = more(order, second)
  expect(shapeOf(longer)?.items.map((one) => one.key)).toEqual(['basket[0]', 'basket[1]', 'basket[2]'])
  expect(JSON.parse(longer).basket[2].article).toBe('V-2')
  expect(JSON.parse(less(order, first)).basket).toEqual([{ article: 'V-2', count: 1, price: 7 }])
  expect(JSON.parse(less(order, second)).basket).toHaveLength(1)
  const one = less(order, second)
  const last = shapeOf(one)?.items[0]
  expect(JSON.parse(less(one, last!)).basket).toEqual([])
})

test('an interchange gets another control number, and other texts stay', () => {
  const header =
    'ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000007*0*T*>~'
  const interchange = `${header}GS*PO*A*B*20261123*0700*000000007*X*004010~GE*1*000000007~IEA*1*000000007~`
  const fresh = withFreshControl(interchange, 1_764_633_600_000)
  expect(fresh).toBe(
    `${header.replace('000000007', '764633600')}GS*PO*A*B*20261123*0700*000000007*X*004010~GE*1*000000007~IEA*1*764633600~`,
  )
  for (const other of [
    '',
    '{"number":7}',
    'ISA',
    header,
    `${header}IEA*1*000000008~`,
    header.replace('7*0*T', 'x*0*T'),
  ])
    expect(withFreshControl(other, 1)).toBe(other)
})
