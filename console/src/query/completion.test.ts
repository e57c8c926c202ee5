import { CompletionContext } from '@codemirror/autocomplete'
import { PostgreSQL } from '@codemirror/lang-sql'
import { EditorState } from '@codemirror/state'
import { expect, test } from 'vitest'

import { functionCompletions, keywordsBeside } from './completion'

test('a function is offered with what it takes and gives', () => {
  const [plain, bare, made] = functionCompletions([
    { name: 'split_part', arguments: 'text, separator, place', result: null, kind: 'scalar', about: 'The part at a place.' },
    { name: 'now', arguments: '', result: null, kind: 'scalar', about: 'The moment at which the statement began.' },
    { name: 'per_mile', arguments: 'fare numeric(8,2), miles numeric(6,2)', result: 'numeric(12,4)', kind: 'user-defined, sql', about: '' },
  ])
  expect(plain).toMatchObject({ label: 'split_part', type: 'function', detail: '(text, separator, place)', info: 'The part at a place.' })
  expect(made.info).toBe('user-defined, sql')
  expect(bare.detail).toBe('()')
  expect(made.detail).toBe('(fare numeric(8,2), miles numeric(6,2)) → numeric(12,4)')
})

test('a function is not offered as a keyword too', async () => {
  const state = EditorState.create({ doc: 'SELECT perc', extensions: [PostgreSQL.language] })
  const found = await keywordsBeside([{ name: 'percent_rank', arguments: '', result: null, kind: 'window', about: '' }])(new CompletionContext(state, 11, true))
  const labels = found!.options.map((option) => option.label)
  expect(labels).toContain('PERCENTILE_CONT')
  expect(labels).not.toContain('PERCENT_RANK')
})
