/** Places of steps and edges, by a layout library: the result on top, the sources at the bottom. */
import ELK, { type ElkNode } from 'elkjs/lib/elk.bundled.js'

import type { PlanDocument } from '../api/client'

export interface Box { step: number; x: number; y: number; width: number; height: number }
export interface Edge { from: number; to: number; points: { x: number; y: number }[] }
export interface Layout { boxes: Box[]; edges: Edge[]; width: number; height: number }

const WIDTH = 230
const HEIGHT = 66

export async function layout(plan: PlanDocument): Promise<Layout> {
  const graph: ElkNode = await new ELK().layout({
    id: 'plan',
    layoutOptions: {
      'elk.algorithm': 'layered',
      'elk.direction': 'UP',
      'elk.spacing.nodeNode': '28',
      'elk.layered.spacing.nodeNodeBetweenLayers': '34',
      'elk.edgeRouting': 'ORTHOGONAL',
    },
    children: plan.steps.map((s) => ({ id: String(s.step), width: WIDTH, height: HEIGHT })),
    edges: plan.steps.flatMap((s) => s.inputs.map((i) => ({ id: `${i}-${s.step}`, sources: [String(i)], targets: [String(s.step)] }))),
  } as ElkNode)
  const placed = graph.edges ?? []
  const boxes = (graph.children ?? []).map((n) => ({ step: Number(n.id), x: n.x ?? 0, y: n.y ?? 0, width: WIDTH, height: HEIGHT }))
  const edges = placed.map((e) => {
    const section = e.sections?.[0]
    const points = section ? [section.startPoint, ...(section.bendPoints ?? []), section.endPoint] : []
    return { from: Number(e.sources[0]), to: Number(e.targets[0]), points }
  })
  return { boxes, edges, width: graph.width ?? 0, height: graph.height ?? 0 }
}
