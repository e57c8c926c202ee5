/** Who is signed in in this window, and how it comes to that: by the link that the service prints, by another window of the same browser, or
 * by a token. */
import { computed, ref } from 'vue'

import { get, post, remove, type CallerBody, type SignedInBody } from './client'
import { keep, secret } from './secret'

export const caller = ref<CallerBody | null>(null)
export const isAdministrator = computed(() => caller.value?.role === 'administrator')

/** How long other windows are waited for, in milliseconds. */
const OTHERS = 200

const others = typeof BroadcastChannel === 'undefined' ? null : new BroadcastChannel('cobble-sign-in')

/** Asks the browser's other windows of this service, which are of the same origin. */
function askOthers(): Promise<void> {
  return new Promise((resolve) => {
    if (!others) return resolve()
    others.addEventListener('message', (event: MessageEvent<{ secret?: string }>) => {
      if (typeof event.data.secret !== 'string' || secret.value !== null) return
      keep(event.data.secret)
      resolve()
    })
    others.postMessage({ asks: true })
    setTimeout(resolve, OTHERS)
  })
}

function answerOthers() {
  others?.addEventListener('message', (event: MessageEvent<{ asks?: boolean }>) => {
    if (event.data.asks && secret.value !== null) others.postMessage({ secret: secret.value })
  })
}

async function trade(shown: { token: string } | { code: string }) {
  const answer = await post<SignedInBody>('/caller', shown)
  keep(answer.secret)
  caller.value = { user: answer.user, role: answer.role }
}

export const signIn = (token: string) => trade({ token })

export async function signOut() {
  await remove<CallerBody>('/caller').catch(() => undefined)
  keep(null)
  location.assign('/')
}

const codeOf = (fragment: string) => /^#code=([A-Za-z0-9]+)$/.exec(fragment)?.[1]

/** Before the first page: signs in by what the address carries, or finds out who is signed in already. The code must not stay in the address,
 * which the browser keeps. */
export async function begin() {
  // A link that is opened where the console stands already loads nothing by itself.
  addEventListener('hashchange', () => { if (codeOf(location.hash)) location.reload() })
  const code = codeOf(location.hash)
  if (code) {
    history.replaceState(history.state, '', location.pathname + location.search)
    // A link that has served leaves the sign-in as it is.
    await trade({ code }).catch(() => undefined)
  }
  if (secret.value === null) await askOthers()
  answerOthers()
  if (secret.value !== null && caller.value === null) {
    try {
      caller.value = await get<CallerBody>('/caller')
    } catch {
      keep(null)
    }
  }
}
