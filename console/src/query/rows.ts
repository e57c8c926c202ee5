/** Rows of a small statement, as objects by the names of their columns. It leaves no run behind. */
import { get, post, type PageBody, type RunBody } from '../api/client'

/** Rows of one request; more of them are asked for until so many have come. */
const PAGE = 1000

export async function rowsOf<T>(statement: string, most = 5000): Promise<T[]> {
  const run = await post<RunBody>('/runs', { statement, record: false })
  const all: T[] = []
  for (;;) {
    const page = await get<PageBody>(`/runs/${run.id}/rows?offset=${all.length}&limit=${Math.min(PAGE, most - all.length)}`)
    for (const row of page.rows) all.push(Object.fromEntries(page.columns.map((c, i) => [c.name, row[i]])) as T)
    if (page.last || !page.rows.length || all.length >= most) return all
  }
}

/** A text as a literal. */
export const literal = (text: string) => `'${text.replaceAll("'", "''")}'`
