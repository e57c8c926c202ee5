/** What the editor offers for functions: the name, what it takes beside it, and the call with the cursor inside. */
import { snippetCompletion, type Completion, type CompletionSource } from '@codemirror/autocomplete'
import { PostgreSQL, keywordCompletionSource } from '@codemirror/lang-sql'

import type { FunctionBody } from '../api/client'

export function functionCompletions(functions: FunctionBody[]): Completion[] {
  return functions.map((f) =>
    snippetCompletion(f.arguments === '' ? `${f.name}()` : `${f.name}(\${})`, {
      label: f.name,
      type: 'function',
      detail: `(${f.arguments})${f.result ? ` → ${f.result}` : ''}`,
      info: f.about || f.kind,
    }),
  )
}

/** Keywords, without those that are offered as functions already. */
export function keywordsBeside(functions: FunctionBody[]): CompletionSource {
  const taken = new Set(functions.map((f) => f.name))
  const keywords = keywordCompletionSource(PostgreSQL, true)
  return async (context) => {
    const found = await keywords(context)
    return found && { ...found, options: found.options.filter((option) => !taken.has(option.label.toLowerCase())) }
  }
}
