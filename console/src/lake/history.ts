/** The states of a lake's table as a picture: time goes to the right, each branch has a line of its own. */

export interface State {
  snapshot: string
  parent: string | null
  at: string
  operation: string | null
  is_current: boolean
  files_added: number | null
  files_removed: number | null
  rows_added: number | null
  rows_removed: number | null
  files: number | null
  rows: number | null
}

export interface Name {
  name: string
  kind: string
  snapshot: string
}

export interface Dot {
  state: State
  x: number
  y: number
  names: Name[]
}

export interface History {
  dots: Dot[]
  lines: { from: Dot; to: Dot }[]
  lanes: number
}

/** The states in the order of time; those of the main branch on the first line, those of others on the next ones. */
export function history(states: State[], names: Name[]): History {
  const ordered = [...states].sort((a, b) => a.at.localeCompare(b.at))
  const byId = new Map(ordered.map((state) => [state.snapshot, state]))
  const lane = new Map<string, number>()
  let lanes = 0
  const follow = (from: string) => {
    const own: string[] = []
    for (let at = byId.get(from); at && !lane.has(at.snapshot) && !own.includes(at.snapshot); at = at.parent ? byId.get(at.parent) : undefined) own.push(at.snapshot)
    if (own.length) {
      own.forEach((id) => lane.set(id, lanes))
      lanes += 1
    }
  }
  const main = names.find((n) => n.name === 'main')?.snapshot ?? ordered.find((s) => s.is_current)?.snapshot
  if (main) follow(main)
  for (const name of names) follow(name.snapshot)
  // What nobody names: the newest first, so that each line is a whole one.
  for (const state of [...ordered].reverse()) follow(state.snapshot)
  const dots = ordered.map((state, x) => ({ state, x, y: lane.get(state.snapshot) ?? 0, names: names.filter((n) => n.snapshot === state.snapshot) }))
  const dotOf = new Map(dots.map((dot) => [dot.state.snapshot, dot]))
  const lines = dots.flatMap((to) => {
    const from = to.state.parent ? dotOf.get(to.state.parent) : undefined
    return from ? [{ from, to }] : []
  })
  return { dots, lines, lanes: Math.max(lanes, 1) }
}

/** The last part of a path. */
export const fileName = (path: string) => path.split('/').pop() ?? path
