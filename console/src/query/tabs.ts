/** The query page's tabs: their text, and the run each has started. Kept across visits. */
import { defineStore } from 'pinia'
import { ref, watch } from 'vue'

import { Failure, errorBody, post, remove, type ErrorBody, type RunBody } from '../api/client'
import { PAGE_ROWS } from './pages'

export interface Tab {
  key: number
  text: string
  run: RunBody | null
  error: ErrorBody | null
  view: 'rows' | 'plan'
  /** Counts what was asked for this tab: an answer to an earlier question is not shown. */
  asked: number
}

const KEY = 'cobble-tabs'

/** What was kept of an earlier visit; whatever else stands there is left alone. */
function kept(): string[] {
  try {
    const found: unknown = JSON.parse(localStorage.getItem(KEY) ?? '[]')
    return Array.isArray(found) ? found.filter((text): text is string => typeof text === 'string') : []
  } catch {
    return []
  }
}

export const useTabs = defineStore('tabs', () => {
  const saved = kept()
  let next = 1
  const fresh = (text: string): Tab => ({ key: next++, text, run: null, error: null, view: 'rows', asked: 0 })
  const tabs = ref<Tab[]>((saved.length ? saved : ['']).map(fresh))
  const active = ref(tabs.value[0].key)
  const sources = new Map<number, EventSource>()

  watch(() => tabs.value.map((t) => t.text), (texts) => localStorage.setItem(KEY, JSON.stringify(texts)))

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
    sources.get(key)?.close()
    if (!tabs.value.length) open()
    else if (active.value === key) active.value = tabs.value[Math.max(place - 1, 0)].key
  }

  function follow(tab: Tab, id: string) {
    const source = new EventSource(`/api/v1/runs/${id}/events`)
    sources.get(tab.key)?.close()
    sources.set(tab.key, source)
    const take = (event: MessageEvent<string>) => {
      if (tab.run?.id !== id) return source.close()
      tab.run = JSON.parse(event.data) as RunBody
      tab.error = tab.run.error ?? null
    }
    source.addEventListener('progress', take)
    source.addEventListener('end', (event) => {
      take(event)
      source.close()
    })
    source.onerror = () => {
      source.close()
      if (tab.run?.id === id && tab.run.state === 'running') tab.error = errorBody(null)
    }
  }

  async function run(tab: Tab) {
    if (!tab.text.trim()) return
    tab.error = null
    const asked = ++tab.asked
    const isLate = () => tab.asked !== asked || !tabs.value.some((t) => t.key === tab.key)
    try {
      // A quick statement comes back with its first page.
      const run = await post<RunBody>(`/runs?wait=200&limit=${PAGE_ROWS}`, { statement: tab.text })
      if (isLate()) {
        // Nobody waits for it any more.
        if (run.state === 'running') await remove(`/runs/${run.id}`).catch(() => undefined)
        return
      }
      tab.run = run
      tab.error = run.error ?? null
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

  return { tabs, active, open, close, run, stop }
})
