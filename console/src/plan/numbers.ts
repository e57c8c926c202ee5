/** Numbers as the command prints them. */
export function count(n: number): string {
  const r = Math.round(n)
  if (r < 1e4) return String(r)
  if (r < 1e6) return `${(r / 1e3).toFixed(1)}k`
  if (r < 1e9) return `${(r / 1e6).toFixed(2)}M`
  return `${(r / 1e9).toFixed(2)}G`
}

export function bytes(n: number): string {
  if (n < 1024) return `${Math.round(n)} B`
  if (n < 1024 ** 2) return `${Math.round(n / 1024)} KiB`
  if (n < 1024 ** 3) return `${(n / 1024 ** 2).toFixed(1)} MiB`
  return `${(n / 1024 ** 3).toFixed(2)} GiB`
}

export function seconds(s: number): string {
  if (s < 0.001) return `${Math.round(s * 1e6)} µs`
  if (s < 1) return `${(s * 1e3).toFixed(1)} ms`
  return `${s.toFixed(2)} s`
}
