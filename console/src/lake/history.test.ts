import { expect, test } from 'vitest'

import { fileName, history, type State } from './history'

const state = (snapshot: string, parent: string | null, at: string, is_current = false): State => ({
  snapshot, parent, at, is_current, operation: 'append', files_added: 1, files_removed: 0, rows_added: 1, rows_removed: 0, files: 1, rows: 1,
})

test('the main branch has the first line, others follow, and what nobody names stands last', () => {
  const states = [state('4', '2', '2025-04'), state('1', null, '2025-01'), state('2', '1', '2025-02'), state('3', '2', '2025-03', true), state('5', '4', '2025-05'), state('6', '1', '2025-06')]
  const names = [{ name: 'main', kind: 'branch', snapshot: '3' }, { name: 'trial', kind: 'branch', snapshot: '5' }, { name: 'old', kind: 'tag', snapshot: '1' }]
  const { dots, lines, lanes } = history(states, names)
  expect(dots.map((d) => `${d.state.snapshot}@${d.x},${d.y}`)).toEqual(['1@0,0', '2@1,0', '3@2,0', '4@3,1', '5@4,1', '6@5,2'])
  expect(lines.map((l) => `${l.from.state.snapshot}-${l.to.state.snapshot}`)).toEqual(['1-2', '2-3', '2-4', '4-5', '1-6'])
  expect(lanes).toBe(3)
  expect(dots[0].names.map((n) => n.name)).toEqual(['old'])
})

test('a history with a gap or a circle has an end', () => {
  expect(history([state('2', '1', '2025-02')], []).lines).toEqual([])
  expect(history([state('1', '2', '2025-01'), state('2', '1', '2025-02')], []).dots.length).toBe(2)
  expect(history([], []).lanes).toBe(1)
})

test('a path ends with the name of its file', () => {
  expect(fileName('s3://deep/ops/data/a.parquet')).toBe('a.parquet')
})
