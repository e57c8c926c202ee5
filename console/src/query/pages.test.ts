import { expect, test } from 'vitest'

import { columnWidth, pagesFor, shown } from './pages'

test('only the pages on the screen are asked for', () => {
  expect(pagesFor(0, 30)).toEqual([0])
  expect(pagesFor(490, 520)).toEqual([0, 1])
  expect(pagesFor(99_990, 99_999)).toEqual([199])
})

test('nested values are shown as JSON and nulls as nothing', () => {
  expect(shown({ height_m: 1.5 })).toBe('{"height_m":1.5}')
  expect(shown(null)).toBe('')
  expect(shown(0)).toBe('0')
})

test('columns are neither too narrow nor too wide', () => {
  expect(columnWidth('id', [1, 2])).toBe(70)
  expect(columnWidth('note', ['x'.repeat(400)])).toBe(380)
})
