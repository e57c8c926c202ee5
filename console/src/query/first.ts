/** The query that a first visit begins with. */
import type { NameBody } from '../api/client'
import { quoted } from './names'

const DEMO = `SELECT r.name, count(*) AS boardings, sum(b.fare) AS earned
FROM drop.public.boardings b
JOIN fleet.public.routes r ON r.id = b.route_id
WHERE b.month = '2025-07' AND r.active
GROUP BY r.name
ORDER BY earned DESC
LIMIT 20`

/** The demo's join where its tables are there, otherwise the first rows of some table. */
export function firstQuery(all: NameBody[]): string {
  const has = (catalog: string, table: string) => all.some((n) => n.catalog === catalog && n.schema === 'public' && n.table === table)
  if (has('drop', 'boardings') && has('fleet', 'routes')) return DEMO
  const own = all.find((n) => n.catalog !== 'lane' && n.schema !== 'information_schema')
  return own ? `SELECT *\nFROM ${[own.catalog, own.schema, own.table].map(quoted).join('.')}\nLIMIT 20` : ''
}
