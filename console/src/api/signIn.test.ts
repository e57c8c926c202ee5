import { afterEach, beforeEach, expect, test, vi } from 'vitest'

import { download, get } from './client'
import { listen } from './events'
import { keep, secret } from './secret'
import { begin, caller, signIn } from './signIn'

/** What was asked, with the headers shown. */
let asked: { path: string; method: string; authorization: string | undefined; body: unknown }[] = []

function answers(given: Record<string, { status?: number; body: unknown }>) {
  vi.stubGlobal('fetch', async (path: string, options: RequestInit = {}) => {
    const headers = (options.headers ?? {}) as Record<string, string>
    asked.push({ path, method: options.method ?? 'GET', authorization: headers.Authorization, body: options.body && JSON.parse(options.body as string) })
    const { status = 200, body } = given[`${options.method ?? 'GET'} ${path}`] ?? { status: 404, body: {} }
    return new Response(typeof body === 'string' ? body : JSON.stringify(body), { status })
  })
}

beforeEach(() => {
  asked = []
  keep(null)
  caller.value = null
  history.replaceState(null, '', '/')
})
afterEach(() => vi.unstubAllGlobals())

test('the code of a link is traded once and does not stay in the address', async () => {
  history.replaceState(null, '', '/query?sql=x#code=Abc123')
  answers({ 'POST /api/v1/caller': { body: { user: 'ada', role: 'user', secret: 'tide' } } })
  await begin()
  expect(asked).toMatchObject([{ path: '/api/v1/caller', method: 'POST', body: { code: 'Abc123' } }])
  expect(location.hash).toBe('')
  expect(location.pathname + location.search).toBe('/query?sql=x')
  expect(caller.value).toEqual({ user: 'ada', role: 'user' })
  expect([secret.value, sessionStorage.getItem('cobble-sign-in')]).toEqual(['tide', 'tide'])
})

test('every call shows the sign-in, and one that is over is forgotten', async () => {
  answers({
    'POST /api/v1/caller': { body: { user: 'ada', role: 'administrator', secret: 'tide' } },
    'GET /api/v1/runs': { body: [] },
    'GET /api/v1/users': { status: 401, body: { code: 'not_signed_in', sqlstate: '28000', message: 'no' } },
  })
  await signIn('a token')
  expect(asked.at(-1)?.body).toEqual({ token: 'a token' })
  await get('/runs')
  expect(asked.at(-1)?.authorization).toBe('Bearer tide')
  await expect(get('/users')).rejects.toThrow('no')
  expect(secret.value).toBeNull()
})

test('a sign-in that the service does not know any more is asked for again', async () => {
  keep('ebb')
  answers({ 'GET /api/v1/caller': { status: 401, body: { code: 'not_signed_in', sqlstate: '28000', message: 'no' } } })
  await begin()
  expect([secret.value, caller.value]).toEqual([null, null])
})

test('a download takes a ticket along', async () => {
  keep('tide')
  answers({ 'POST /api/v1/tickets': { body: { ticket: 't1' } } })
  const went = vi.spyOn(location, 'assign').mockImplementation(() => undefined)
  await download('/runs/r1/rows?format=csv')
  expect(asked.at(-1)?.body).toEqual({ path: '/api/v1/runs/r1/rows' })
  expect(went).toHaveBeenCalledWith('/api/v1/runs/r1/rows?format=csv&ticket=t1')
  went.mockRestore()
})

test('a stream is heard with the sign-in, and one that breaks off is told', async () => {
  keep('tide')
  answers({ 'GET /api/v1/runs/r1/events': { body: 'event: progress\ndata: {"n":1}\n\nevent: end\ndata: {"n":2}\n\n' } })
  const heard: [string, string][] = []
  await new Promise<void>((broken) => listen('/runs/r1/events', (name, data) => heard.push([name, data]), broken))
  expect(heard).toEqual([['progress', '{"n":1}'], ['end', '{"n":2}']])
  expect(asked[0].authorization).toBe('Bearer tide')
  // One that was closed at its end is not broken.
  const broken = vi.fn()
  const stream = listen('/runs/r1/events', (name) => { if (name === 'end') stream.close() }, broken)
  await new Promise((later) => setTimeout(later, 50))
  expect(broken).not.toHaveBeenCalled()
})
