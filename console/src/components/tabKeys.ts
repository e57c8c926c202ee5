/** The keys of a tab list (WAI-ARIA Authoring Practices, "Tabs"): arrows, Home and End move to another tab and show it. */
export function moveInTabs(event: KeyboardEvent) {
  const list = event.currentTarget as HTMLElement
  const tabs = [...list.querySelectorAll<HTMLElement>('[role="tab"]')]
  const at = tabs.indexOf(event.target as HTMLElement)
  if (at < 0) return
  const places: Record<string, number> = { ArrowLeft: at - 1, ArrowRight: at + 1, Home: 0, End: tabs.length - 1 }
  const to = places[event.key]
  if (to === undefined) return
  event.preventDefault()
  const tab = tabs[(to + tabs.length) % tabs.length]
  tab.click()
  tab.focus()
}
