/** What this window shows the service in each call, in the place of a token. It is kept for the window alone, and in no cookie: a cookie of
 * 127.0.0.1 would go to every port of the machine. */
import { ref } from 'vue'

const KEY = 'cobble-sign-in'

export const secret = ref(sessionStorage.getItem(KEY))

export function keep(given: string | null) {
  secret.value = given
  if (given === null) sessionStorage.removeItem(KEY)
  else sessionStorage.setItem(KEY, given)
}

/** The headers of a call. */
export function headers(others: Record<string, string>): Record<string, string> {
  return secret.value === null ? others : { ...others, Authorization: `Bearer ${secret.value}` }
}
