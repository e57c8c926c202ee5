import { expect, test } from 'vitest'

import { layout } from './layout'
import { bytes, count, seconds } from './numbers'

test.each([[0, '0'], [9999, '9999'], [10_000, '10.0k'], [2_500_000, '2.50M'], [7e9, '7.00G']])('%d rows as %s', (n, text) => {
  expect(count(n)).toBe(text)
})

test.each([[0, '0 B'], [2048, '2 KiB'], [1.5 * 1024 ** 2, '1.5 MiB'], [3 * 1024 ** 3, '3.00 GiB']])('%d bytes as %s', (n, text) => {
  expect(bytes(n)).toBe(text)
})

test.each([[0.00005, '50 µs'], [0.0123, '12.3 ms'], [2.5, '2.50 s']])('%d seconds as %s', (n, text) => {
  expect(seconds(n)).toBe(text)
})

test('sources stand below what reads them', async () => {
  const step = (n: number, inputs: number[]) => ({ step: n, kind: 'any', text: '', inputs, columns: [], estimated_rows: 1 })
  const placed = await layout({ written: '', rewritten: '', gates: [], joins: [], rewrites: [], steps: [step(1, []), step(2, []), step(3, [1, 2])] })
  const y = (n: number) => placed.boxes.find((b) => b.step === n)!.y
  expect(y(1)).toBeGreaterThan(y(3))
  expect(y(2)).toBeGreaterThan(y(3))
  expect(placed.edges.map((e) => `${e.from}-${e.to}`).sort()).toEqual(['1-3', '2-3'])
  // Boxes do not lie on one another.
  const [a, b] = [1, 2].map((n) => placed.boxes.find((box) => box.step === n)!)
  expect(Math.abs(a.x - b.x)).toBeGreaterThanOrEqual(a.width)
})
