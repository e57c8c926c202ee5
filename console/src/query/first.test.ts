import { expect, test } from 'vitest'

import { firstQuery } from './first'
import { quoted } from './names'

const name = (catalog: string, table: string, schema = 'public') => ({ catalog, schema, table, columns: [] })

test('a first visit begins with tables that are there', () => {
  expect(firstQuery([])).toBe('')
  expect(firstQuery([name('lane', 'runs', 'state')])).toBe('')
  expect(firstQuery([name('drop', 'boardings'), name('fleet', 'routes')])).toContain('JOIN fleet.public.routes')
  expect(firstQuery([name('pier', 'Order')])).toContain('FROM pier.public."Order"')
})

test('names are quoted where SQL needs it', () => {
  expect(['plain', 'two words', 'Upper', 'order', 'say "hi"', '1st'].map(quoted)).toEqual(['plain', '"two words"', '"Upper"', '"order"', '"say ""hi"""', '"1st"'])
})
