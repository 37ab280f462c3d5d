import { json } from '@codemirror/lang-json'
import { ensureSyntaxTree } from '@codemirror/language'
import { EditorState } from '@codemirror/state'
import { expect, test } from 'vitest'
import { pathAt } from './codemirror'

/** Returns the path at the mark `|` in a document. */
function at(marked: string) {
  const place = marked.indexOf('|')
  const state = EditorState.create({ doc: marked.replace('|', ''), extensions: [json()] })
  expect(ensureSyntaxTree(state, state.doc.length, 5000)).not.toBeNull()
  // A state that is made parses for a few milliseconds only; the next one has what was parsed since.
  return pathAt(state.update({}).state, place)
}

test('the path to a place is written as one would read it', () => {
  expect(at('{"buyer": {"name": "A|da"}}')).toBe('buyer.name')
  expect(at('{"rows": [{"item": 1}, {"item": |2}]}')).toBe('rows[1].item')
  expect(at('[[1, 2], [3, 4|]]')).toBe('[1][1]')
  expect(at('{"a b": {"ship-to": tr|ue}}')).toBe('["a b"]["ship-to"]')
  expect(at('|{"a": 1}')).toBe('')
})
