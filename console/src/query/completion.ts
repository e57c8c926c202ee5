/** What the editor offers for functions: the name, what it takes beside it, and the call with the cursor inside. */
import { snippetCompletion, type Completion } from '@codemirror/autocomplete'

import type { FunctionBody } from '../api/client'

export function functionCompletions(functions: FunctionBody[]): Completion[] {
  return functions.map((f) =>
    snippetCompletion(f.arguments === '' ? `${f.name}()` : `${f.name}(\${})`, {
      label: f.name,
      type: 'function',
      detail: `(${f.arguments})${f.result ? ` → ${f.result}` : ''}`,
      info: f.kind,
    }),
  )
}
