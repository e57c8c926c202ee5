import { mount } from '@vue/test-utils'
import { expect, test, vi } from 'vitest'

import type { GateDocument, PlanDocument, StepDocument } from '../api/client'
import * as events from '../api/events'
import ErrorNote from './ErrorNote.vue'
import GateCard from './GateCard.vue'
import PlanGraph from './PlanGraph.vue'
import TestSteps from './TestSteps.vue'

const gate: GateDocument = {
  gate: 'A',
  step: 1,
  connection: 'fleet_db',
  kind: 'postgres',
  region: 'north',
  tables: ['fleet.public.routes'],
  columns_read: ['id', 'name'],
  columns_total: 7,
  pieces: [
    { piece: 'filter', text: 'r.active', verdict: 'pushed' },
    { piece: 'filter', text: 'upper(r.name) = $1', verdict: 'kept', reason: 'collation_differs', note: 'upper and lower case depend on the locale' },
    { piece: 'join', text: 'join on b.route_id = r.id', verdict: 'kept', reason: 'below_kept' },
  ],
  request: { text: 'SELECT t1."id" FROM "public"."routes" AS t1 WHERE t1."active"', parameters: ["'Quay'"] },
  parts: [],
  estimated_rows: 60,
  estimated_bytes: 2048,
  measure: { rows: 107, bytes: 4096, rows_dropped: 0, rows_skipped: 0, requests: 1 },
}

test('a gate says what was pushed, what was kept and why, and what crossed', () => {
  const text = mount(GateCard, { props: { gate } }).text().replace(/\s+/g, ' ')
  for (const part of [
    'fleet.public.routes',
    'postgres fleet_db · north',
    'collation differs: upper and lower case depend on the locale',
    'follows kept work',
    '2 of 7',
    'id, name',
    "$1 = 'Quay'",
    '60 rows, 2 KiB',
    '107 rows, 4 KiB read',
  ]) {
    expect(text).toContain(part)
  }
  // A piece whose text begins with its name is not named twice.
  expect(text).not.toContain('join join')
  expect(text).not.toContain('rows dropped')
})

test('a gate shows the keys of joins that reached it, and what was sent with them', () => {
  const keys = [{ column: 'b.route_id', join: 4, keys: 12, form: 'a list', parts_skipped: 3 }]
  const measured: GateDocument = { ...gate, measure: { ...gate.measure!, keys, sent: { text: 'SELECT … WHERE t1."id" IN ($1, $2)' } } }
  const text = mount(GateCard, { props: { gate: measured } }).text().replace(/\s+/g, ' ')
  expect(text).toContain('12 of step 4 for b.route_id, as a list; 3 parts not opened')
  expect(text).toContain('IN ($1, $2)')
})

test('a gate that has not run shows no measure, and files show their parts', () => {
  const files: GateDocument = { ...gate, kind: 'files', region: undefined, measure: undefined, parts: [{ parts: 'files', read: 1, total: 36 }] }
  const text = mount(GateCard, { props: { gate: files } }).text()
  expect(text).toContain('1 of 36 files')
  expect(text).not.toContain('crossed')
  expect(text).not.toContain('·')
})

test('an error has its place, its hint and its codes', () => {
  const error = { code: 'unknown_name', sqlstate: '42703', message: 'there is no column named "nam"', position: { line: 2, column: 8 }, hint: 'did you mean "name"?' }
  const note = mount(ErrorNote, { props: { error } })
  expect(note.attributes('role')).toBe('alert')
  for (const part of [error.message, 'line 2, column 8', error.hint, 'unknown_name · 42703']) expect(note.text()).toContain(part)
  const bare = mount(ErrorNote, { props: { error: { code: 'internal', sqlstate: 'XX000', message: 'broken' } } })
  expect(bare.text()).not.toContain('line')
})

test('the graph has a box for each step, with what it did', async () => {
  const step = (n: number, kind: string, inputs: number[], measure?: StepDocument['measure']): StepDocument => ({
    step: n, kind, text: `${kind} of something`, inputs, columns: [], estimated_rows: 20_000, measure,
  })
  const plan: PlanDocument = {
    written: '', rewritten: '', gates: [], joins: [], rewrites: [],
    steps: [
      { ...step(1, 'gate', [], { rows: 30_600, batches: 4, seconds: 0.02, memory: 0, spilled: 0 }), gate: 'A' },
      step(2, 'sort', [1], { rows: 30_600, batches: 4, seconds: 0.5, memory: 1024, spilled: 3 << 20 }),
    ],
  }
  const graph = mount(PlanGraph, { props: { plan } })
  await vi.waitUntil(() => graph.findAll('.box').length === 2, { timeout: 5000 })
  expect(graph.findAll('.edge')).toHaveLength(1)
  expect(graph.findAll('.box.source')).toHaveLength(1)
  expect(graph.text()).toContain('1 · gate A')
  expect(graph.text()).toContain('30.6k rows (est. 20.0k) · 500.0 ms · 3.0 MiB to disk')
})

test('a test shows each step when it is known, and what to do about the one that failed', async () => {
  let say: (name: string, data: string) => void = () => undefined
  const closed = vi.fn()
  vi.spyOn(events, 'listen').mockImplementation((_, hear) => {
    say = hear
    return { close: closed }
  })
  const steps = mount(TestSteps, { props: { connection: 'fleet_db' } })
  expect(steps.text()).toContain('testing…')
  say('step', JSON.stringify({ step: 'reach', passed: true, detail: 'something listens', seconds: 0.001 }))
  say('step', JSON.stringify({ step: 'sign in', passed: false, detail: 'refused', setting: 'secret', fix: 'set the password again', seconds: 0.01 }))
  say('end', '')
  await steps.vm.$nextTick()
  expect(steps.findAll('li')).toHaveLength(2)
  expect(steps.find('li.failed').text().replace(/\s+/g, ' ')).toContain('Look at secret: set the password again')
  expect(steps.text()).not.toContain('testing…')
  expect(closed).toHaveBeenCalled()
  vi.restoreAllMocks()
})
