/** The query page's tabs: their text, the session of each at the service, and the run it has started. Texts are kept across visits, and
 * sessions while the window is open. */
import { defineStore } from 'pinia'
import { ref, watch } from 'vue'

import { Failure, errorBody, post, remove, type ErrorBody, type NewSessionBody, type RunBody, type SessionBody } from '../api/client'
import type { PlanDocument } from '../api/client'
import { listen, type Stream } from '../api/events'
import { PAGE_ROWS } from './pages'

export interface Tab {
  key: number
  text: string
  run: RunBody | null
  error: ErrorBody | null
  view: 'rows' | 'plan'
  /** What USE, SET, PREPARE and temporary views of this tab have done is kept there. */
  session: string | null
  /** Where the session was after its last statement. */
  place: NewSessionBody
  /** Something to tell about the session. */
  note: string | null
  /** Counts what was asked for this tab: an answer to an earlier question is not shown. */
  asked: number
}

const KEY = 'cobble-tabs'
const SESSIONS = 'cobble-sessions'

/** What was kept of an earlier visit; whatever else stands there is left alone. */
function kept(): string[] {
  try {
    const found: unknown = JSON.parse(localStorage.getItem(KEY) ?? '[]')
    return Array.isArray(found) ? found.filter((text): text is string => typeof text === 'string') : []
  } catch {
    return []
  }
}

/** The sessions of this window's tabs, in their order. */
function keptSessions(): (string | null)[] {
  try {
    const found: unknown = JSON.parse(sessionStorage.getItem(SESSIONS) ?? '[]')
    return Array.isArray(found) ? found.map((id) => (typeof id === 'string' ? id : null)) : []
  } catch {
    return []
  }
}

/** The place in words, such as `fleet.public`, with the settings that were given. */
export function placeWords(place: NewSessionBody): string {
  const where = place.catalog ? [place.catalog, place.schema].filter(Boolean).join('.') : ''
  const settings = Object.entries(place.settings ?? {}).filter(([name]) => name !== 'transaction').map(([name, value]) => `${name} = ${value}`)
  return [where, ...settings].filter(Boolean).join(' · ')
}

export const useTabs = defineStore('tabs', () => {
  const saved = kept()
  let next = 1
  const fresh = (text: string, session: string | null = null): Tab => ({ key: next++, text, run: null, error: null, view: 'rows', session, place: {}, note: null, asked: 0 })
  const sessions = keptSessions()
  const tabs = ref<Tab[]>((saved.length ? saved : ['']).map((text, place) => fresh(text, sessions[place] ?? null)))
  const active = ref(tabs.value[0].key)
  const sources = new Map<number, Stream>()

  watch(() => tabs.value.map((t) => t.text), (texts) => localStorage.setItem(KEY, JSON.stringify(texts)))
  watch(() => tabs.value.map((t) => t.session), (all) => sessionStorage.setItem(SESSIONS, JSON.stringify(all)))

  function open(text = ''): Tab {
    tabs.value.push(fresh(text))
    const tab = tabs.value[tabs.value.length - 1]
    active.value = tab.key
    return tab
  }

  function close(key: number) {
    const place = tabs.value.findIndex((t) => t.key === key)
    const [closed] = tabs.value.splice(place, 1)
    stop(closed)
    if (closed.session) remove(`/sessions/${closed.session}`).catch(() => undefined)
    sources.get(key)?.close()
    if (!tabs.value.length) open()
    else if (active.value === key) active.value = tabs.value[Math.max(place - 1, 0)].key
  }

  const beginning = new Map<number, Promise<string>>()

  /** A session for the tab: one, however many ask for it meanwhile. */
  function begun(tab: Tab): Promise<string> {
    const known = beginning.get(tab.key)
    if (known) return known
    const asked = post<SessionBody>('/sessions', tab.place)
      .then((session) => (tab.session = session.id))
      .finally(() => beginning.delete(tab.key))
    beginning.set(tab.key, asked)
    return asked
  }

  /** What the service is asked within the tab's session, which begins where it is needed. One that has ended, or is that of the user who had
   * signed in before, is begun again. */
  async function within<T>(tab: Tab, ask: (session: string) => Promise<T>): Promise<T> {
    const before = tab.session
    try {
      return await ask(before ?? (await begun(tab)))
    } catch (thrown) {
      const ended = before !== null && thrown instanceof Failure && ['not_found', 'not_allowed'].includes(thrown.body.code) && thrown.body.message.includes(before)
      if (!ended) throw thrown
      tab.session = null
      const session = await begun(tab)
      tab.note = 'The session of this tab has expired or belongs to another user. A new one has started, without prepared statements and temporary views.'
      return ask(session)
    }
  }

  /** Takes in what a run has come to. */
  function take(tab: Tab, run: RunBody) {
    tab.run = run
    tab.error = run.error ?? null
    if (run.state !== 'running') tab.place = { catalog: run.catalog, schema: run.schema, settings: run.settings }
  }

  /** The plan of the tab's text, not run. */
  const planOf = (tab: Tab) => within(tab, (session) => post<PlanDocument>('/plans', { statement: tab.text, session }))

  function follow(tab: Tab, id: string) {
    sources.get(tab.key)?.close()
    const hear = (name: string, data: string) => {
      if (tab.run?.id !== id) return source.close()
      const run = JSON.parse(data) as RunBody
      // Only the first event brings the statement.
      take(tab, { ...run, statement: run.statement || tab.run.statement })
      if (name === 'end') source.close()
    }
    const broken = () => {
      if (tab.run?.id === id && tab.run.state === 'running') tab.error = errorBody(null)
    }
    const source = listen(`/runs/${id}/events`, hear, broken)
    sources.set(tab.key, source)
  }

  async function run(tab: Tab) {
    if (!tab.text.trim()) return
    // A session runs one statement after the other: an earlier one would be waited for.
    await stop(tab)
    tab.error = null
    tab.note = null
    const asked = ++tab.asked
    const isLate = () => tab.asked !== asked || !tabs.value.some((t) => t.key === tab.key)
    try {
      // A quick statement comes back with its first page.
      const statement = tab.text
      const run = await within(tab, (session) => post<RunBody>(`/runs?wait=200&limit=${PAGE_ROWS}`, { statement, session }))
      if (isLate()) {
        // Nobody waits for it any more.
        if (run.state === 'running') await remove(`/runs/${run.id}`).catch(() => undefined)
        return
      }
      take(tab, run)
      if (run.state === 'running') follow(tab, run.id)
    } catch (thrown) {
      if (!isLate()) tab.error = errorBody(thrown)
    }
  }

  async function stop(tab: Tab) {
    if (tab.run?.state !== 'running') return
    try {
      await remove(`/runs/${tab.run.id}`)
    } catch (thrown) {
      if (!(thrown instanceof Failure)) tab.error = errorBody(thrown)
    }
  }

  return { tabs, active, open, close, run, stop, planOf }
})
