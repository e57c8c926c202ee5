/** Calls to the service. Every failure becomes a `Failure` in the service's own error shape. */
import { headers, keep } from './secret'
import type { components } from './schema'

type Schemas = components['schemas']
export type ErrorBody = Schemas['ErrorBody']
export type RunBody = Schemas['RunBody']
export type PageBody = Schemas['PageBody']
export type PlanDocument = Schemas['PlanDocument']
export type StepDocument = Schemas['StepDocument']
export type GateDocument = Schemas['GateDocument']
export type SessionBody = Schemas['SessionBody']
export type NewSessionBody = Schemas['NewSessionBody']
export type ConnectionBody = Schemas['ConnectionBody']
export type NewConnectionBody = Schemas['NewConnectionBody']
export type CatalogBody = Schemas['CatalogBody']
export type TableBody = Schemas['TableBody']
export type FunctionBody = Schemas['FunctionBody']
export type NameBody = Schemas['NameBody']
export type CallerBody = Schemas['CallerBody']
export type SignedInBody = Schemas['SignedInBody']
export type UserBody = Schemas['UserBody']
export type TicketBody = Schemas['TicketBody']
export type KindBody = Schemas['KindBody']
export type TestStepBody = Schemas['TestStepBody']
export type ConfiguredCatalogBody = Schemas['ConfiguredCatalogBody']
export type DependentsBody = Schemas['DependentsBody']
export type EffectiveBody = Schemas['EffectiveBody']
export type FoundTableBody = Schemas['FoundTableBody']
export type LookBody = Schemas['LookBody']
export type LookingBody = Schemas['LookingBody']
export type PastLookBody = Schemas['PastLookBody']

export class Failure extends Error {
  constructor(readonly body: ErrorBody) {
    super(body.message)
  }
}

/** Whatever was thrown, as an error body that can be shown. */
export function errorBody(thrown: unknown): ErrorBody {
  if (thrown instanceof Failure) return thrown.body
  return {
    code: 'unreachable',
    sqlstate: '08006',
    message: 'The service does not answer.',
    hint: 'It may have been stopped. Start it again with: cobble up',
  }
}

export async function call<T>(method: 'GET' | 'POST' | 'PUT' | 'DELETE', path: string, body?: unknown): Promise<T> {
  const response = await fetch(`/api/v1${path}`, {
    method,
    headers: headers(body === undefined ? { Accept: 'application/json' } : { 'Content-Type': 'application/json', Accept: 'application/json' }),
    body: body === undefined ? undefined : JSON.stringify(body),
  })
  const text = await response.text()
  let parsed: unknown
  try {
    parsed = JSON.parse(text)
  } catch {
    throw new Failure({ code: 'internal', sqlstate: 'XX000', message: `The service gave an answer that is not JSON (${response.status}).` })
  }
  // The sign-in is over: the window asks for another one.
  if (response.status === 401 && path !== '/caller') keep(null)
  if (!response.ok) throw new Failure(parsed as ErrorBody)
  return parsed as T
}

export const get = <T>(path: string) => call<T>('GET', path)
export const post = <T>(path: string, body: unknown) => call<T>('POST', path, body)
export const put = <T>(path: string, body: unknown) => call<T>('PUT', path, body)
export const remove = <T>(path: string) => call<T>('DELETE', path)
export const part = encodeURIComponent

/** Has the browser save what a path gives. A download shows no header, and so takes a ticket along. */
export async function download(path: string) {
  const full = `/api/v1${path}`
  const { ticket } = await post<TicketBody>('/tickets', { path: full.split('?')[0] })
  location.assign(`${full}${full.includes('?') ? '&' : '?'}ticket=${ticket}`)
}
