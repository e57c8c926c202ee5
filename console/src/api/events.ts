/** Events that the service sends while something goes on. The browser's own reader of such streams shows no header, and so cannot sign in. */
import { createParser } from 'eventsource-parser'

import { headers } from './secret'

export interface Stream { close: () => void }

/** Hears every event of a stream by its name until it is closed. A stream that ends before that is broken. */
export function listen(path: string, hear: (name: string, data: string) => void, broken: () => void): Stream {
  const stopping = new AbortController()
  const read = async () => {
    const response = await fetch(`/api/v1${path}`, { headers: headers({ Accept: 'text/event-stream' }), signal: stopping.signal })
    if (!response.ok || !response.body) throw new Error(`status ${response.status}`)
    const parser = createParser({ onEvent: (event) => { if (!stopping.signal.aborted) hear(event.event ?? 'message', event.data) } })
    const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
    for (let next = await reader.read(); !next.done; next = await reader.read()) parser.feed(next.value)
  }
  read().catch(() => undefined).then(() => { if (!stopping.signal.aborted) broken() })
  return { close: () => stopping.abort() }
}
