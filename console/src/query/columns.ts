/** A column as it is defined, like `fare numeric(8,2)`, in its two parts. */
export interface Part {
  name: string
  type: string
}

export function parted(column: string): Part {
  const quoted = /^"((?:[^"]|"")*)" (.*)$/.exec(column)
  if (quoted) return { name: quoted[1].replaceAll('""', '"'), type: quoted[2] }
  const space = column.indexOf(' ')
  return { name: column.slice(0, space), type: column.slice(space + 1) }
}

export function joined({ name, type }: Part): string {
  return `${/^[\p{L}\p{N}_]+$/u.test(name) ? name : `"${name.replaceAll('"', '""')}"`} ${type.trim()}`
}
