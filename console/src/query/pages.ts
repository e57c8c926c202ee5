/** Which pages of a result hold the rows that are on the screen. */
export const PAGE_ROWS = 500

export function pagesFor(firstRow: number, lastRow: number): number[] {
  const first = Math.floor(Math.max(firstRow, 0) / PAGE_ROWS)
  const last = Math.floor(Math.max(lastRow, 0) / PAGE_ROWS)
  return Array.from({ length: last - first + 1 }, (_, i) => first + i)
}

/** Width of a column in pixels, from its name and the first rows. */
export function columnWidth(name: string, values: unknown[]): number {
  const longest = values.reduce<number>((n, v) => Math.max(n, shown(v).length), name.length + 3)
  return Math.min(Math.max(longest * 7.8 + 22, 70), 380)
}

export function shown(value: unknown): string {
  if (value === null || value === undefined) return ''
  return typeof value === 'object' ? JSON.stringify(value) : String(value)
}
