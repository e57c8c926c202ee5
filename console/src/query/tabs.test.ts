import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { nextTick } from 'vue'

import { placeWords, useTabs } from './tabs'

/** The event streams that have been opened, so that a test can speak through them. */
const streams: { path: string; say: (name: string, data: unknown) => void; broken: () => void; closed: boolean }[] = []
vi.mock('../api/events', () => ({
  listen(path: string, hear: (name: string, data: string) => void, broken: () => void) {
    const stream = { path, say: (name: string, data: unknown) => hear(name, JSON.stringify(data)), broken, closed: false }
    streams.push(stream)
    return { close: () => { stream.closed = true } }
  },
}))

beforeEach(() => {
  localStorage.clear()
  sessionStorage.clear()
  streams.length = 0
  setActivePinia(createPinia())
})
afterEach(() => vi.unstubAllGlobals())

function answer(status: number, body: unknown) {
  const fetched = vi.fn(async () => new Response(JSON.stringify(body), { status }))
  vi.stubGlobal('fetch', fetched)
  return fetched
}

test('tabs are kept across visits, and there is always one', async () => {
  const tabs = useTabs()
  tabs.open('SELECT 1')
  await nextTick()
  expect(JSON.parse(localStorage.getItem('cobble-tabs') ?? '[]')).toHaveLength(2)
  setActivePinia(createPinia())
  expect(useTabs().tabs.map((t) => t.text)[1]).toBe('SELECT 1')
  const again = useTabs()
  for (const tab of [...again.tabs]) again.close(tab.key)
  expect(again.tabs).toHaveLength(1)
  expect(again.tabs[0].text).toBe('')
})

test('closing the tab in front shows its neighbour', () => {
  const tabs = useTabs()
  const second = tabs.open('SELECT 2')
  const third = tabs.open('SELECT 3')
  tabs.close(third.key)
  expect(tabs.active).toBe(second.key)
  // Closing one that is not in front changes nothing.
  tabs.close(tabs.tabs[0].key)
  expect(tabs.active).toBe(second.key)
})

test('a run is followed until it ends', async () => {
  answer(200, { id: 'r1', state: 'running', statement: 'SELECT 1' })
  const tabs = useTabs()
  const tab = tabs.open('SELECT 1')
  await tabs.run(tab)
  expect(streams[0].path).toBe('/runs/r1/events')
  streams[0].say('progress', { id: 'r1', state: 'running', rows_out: 5 })
  expect(tab.run?.state).toBe('running')
  streams[0].say('end', { id: 'r1', state: 'failed', error: { code: 'syntax', sqlstate: '42601', message: 'no' } })
  expect(tab.run?.state).toBe('failed')
  expect(tab.error?.message).toBe('no')
  expect(streams[0].closed).toBe(true)
})

test('a refused statement shows the error of the service', async () => {
  answer(400, { code: 'syntax', sqlstate: '42601', message: 'expected an expression', position: { line: 1, column: 8 } })
  const tabs = useTabs()
  const tab = tabs.open('SELECT')
  await tabs.run(tab)
  expect(tab.error).toMatchObject({ sqlstate: '42601', position: { line: 1, column: 8 } })
  expect(streams).toHaveLength(0)
})

test('a service that has gone away is said to be gone', async () => {
  vi.stubGlobal('fetch', vi.fn(async () => { throw new TypeError('failed') }))
  const tabs = useTabs()
  const tab = tabs.open('SELECT 1')
  await tabs.run(tab)
  expect(tab.error?.hint).toContain('cobble up')
  answer(200, { id: 'r2', state: 'running' })
  await tabs.run(tab)
  streams[0].broken()
  expect(tab.error?.message).toContain('does not answer')
})

test('an empty tab runs nothing, and only a running one is stopped', async () => {
  const fetched = answer(200, { id: 'r3', state: 'running' })
  const tabs = useTabs()
  const tab = tabs.open('   ')
  await tabs.run(tab)
  await tabs.stop(tab)
  expect(fetched).not.toHaveBeenCalled()
  tab.text = 'SELECT 1'
  await tabs.run(tab)
  await tabs.stop(tab)
  expect(fetched).toHaveBeenLastCalledWith('/api/v1/runs/r3', expect.objectContaining({ method: 'DELETE' }))
})

test('an answer that is not JSON is an error, not a crash', async () => {
  vi.stubGlobal('fetch', vi.fn(async () => new Response('<html>', { status: 502 })))
  const tabs = useTabs()
  const tab = tabs.open('SELECT 1')
  await tabs.run(tab)
  expect(tab.error?.message).toContain('not JSON (502)')
})

test('what is kept in another form is left alone', () => {
  for (const stored of ['{"a": 1}', 'not JSON', '[1, null, "SELECT 1"]', 'null']) {
    localStorage.setItem('cobble-tabs', stored)
    setActivePinia(createPinia())
    expect(useTabs().tabs.map((t) => t.text)).toEqual(stored.includes('SELECT') ? ['SELECT 1'] : [''])
  }
})

test('a late answer does not replace that of a later question', async () => {
  const answers: ((body: unknown) => void)[] = []
  const fetched = vi.fn((...[url, options]: [string, RequestInit?]) =>
    options?.method === 'DELETE' || url.endsWith('/sessions')
      ? Promise.resolve(new Response('{"id": "s1"}'))
      : new Promise<Response>((resolve) => answers.push((body) => resolve(new Response(JSON.stringify(body))))),
  )
  vi.stubGlobal('fetch', fetched)
  const tabs = useTabs()
  const tab = tabs.open('SELECT 1')
  const [first, second] = [tabs.run(tab), tabs.run(tab)]
  await vi.waitFor(() => expect(answers).toHaveLength(2))
  // Both asked for a session, and there is one.
  expect(fetched.mock.calls.filter(([url]) => url.endsWith('/sessions'))).toHaveLength(1)
  answers[1]({ id: 'r2', state: 'finished' })
  await second
  answers[0]({ id: 'r1', state: 'running' })
  await first
  expect(tab.run?.id).toBe('r2')
  expect(fetched).toHaveBeenLastCalledWith('/api/v1/runs/r1', expect.objectContaining({ method: 'DELETE' }))
})

test('a tab has a session, which is begun again when it has ended', async () => {
  const asked: { url: string; body: Record<string, unknown> }[] = []
  const known = new Set<string>()
  let ended = ''
  vi.stubGlobal('fetch', vi.fn(async (url: string, options?: RequestInit) => {
    const body = JSON.parse(String(options?.body ?? '{}')) as Record<string, unknown>
    asked.push({ url, body })
    if (url.endsWith('/sessions')) {
      const id = `s${known.size + 1}`
      known.add(id)
      return new Response(JSON.stringify({ id }))
    }
    if (body.session === ended) return new Response(JSON.stringify({ code: 'not_found', sqlstate: '42704', message: `there is no session ${ended}` }), { status: 404 })
    return new Response(JSON.stringify({ id: 'r1', state: 'finished', catalog: 'fleet', schema: 'public', settings: { 'run.tasks': '1' } }))
  }))
  const tabs = useTabs()
  const tab = tabs.tabs[0]
  tab.text = 'USE fleet.public; SET run.tasks = 1'
  await tabs.run(tab)
  expect(asked[1].body).toMatchObject({ statement: tab.text, session: 's1' })
  expect(placeWords(tab.place)).toBe('fleet.public · run.tasks = 1')
  await tabs.planOf(tab)
  expect(asked[2].body).toMatchObject({ session: 's1' })
  // A new visit in the same window goes on in it.
  await nextTick()
  setActivePinia(createPinia())
  expect(useTabs().tabs[0].session).toBe('s1')

  ended = 's1'
  await tabs.run(tab)
  expect(asked.at(-2)).toMatchObject({ url: '/api/v1/sessions', body: { catalog: 'fleet', settings: { 'run.tasks': '1' } } })
  expect(tab.session).toBe('s2')
  expect(tab.note).toContain('has expired')
  expect(tab.error).toBeNull()
  tabs.close(tab.key)
  expect(asked.at(-1)?.url).toBe('/api/v1/sessions/s2')
})
