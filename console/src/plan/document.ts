/** The plan document, as the service sends it. */
export interface PlanDocument {
  written: string
  rewritten: string
  steps: Step[]
  gates: Gate[]
  joins: JoinChoice[]
  rewrites: TraceEntry[]
  measures?: { planning_seconds: number; seconds: number; rows: number; memory: number }
}

export interface Step {
  step: number
  kind: string
  text: string
  inputs: number[]
  gate?: string
  columns: string[]
  estimated_rows: number
  measure?: { rows: number; batches: number; seconds: number; memory: number; spilled: number }
}

export interface Piece {
  piece: string
  text: string
  verdict: 'pushed' | 'prunes' | 'kept'
  reason?: string
  note?: string
}

export interface Gate {
  gate: string
  step: number
  connection: string
  kind: string
  region?: string
  tables: string[]
  columns_read: string[]
  columns_total: number
  pieces: Piece[]
  request: { text: string; parameters?: string[] }
  parts: { parts: string; read: number; total: number }[]
  estimated_rows: number
  estimated_bytes?: number
  measure?: { rows: number; bytes: number; rows_dropped: number; rows_skipped: number; requests: number }
}

export interface JoinChoice {
  step: number
  text: string
  chosen: string
  cost: number
  alternatives: { way: string; cost: number }[]
}

/** The order of a region of joins, beside those that were weighed and not taken. */
export interface JoinOrder {
  chosen: string
  cost: number
  alternatives: { way: string; cost: number }[]
  written: { way: string; cost: number }
}

export interface TraceEntry {
  rewrite: string
  about: string
  changed: boolean
  switched_off: boolean
  before?: string
  after?: string
  notes?: string[]
  orders?: JoinOrder[]
}
