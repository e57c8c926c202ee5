import { expect, test } from 'vitest'

import { joined, parted } from './columns'

test('a column is taken apart and put together again', () => {
  for (const column of ['fare numeric(8,2)', '"a b" double precision', '"say ""hi""" text']) expect(joined(parted(column))).toBe(column)
  expect(parted('at timestamp')).toEqual({ name: 'at', type: 'timestamp' })
})
