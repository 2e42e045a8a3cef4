import { parse, stringify } from 'smol-toml'

import type { Schemas } from './api/client'

export type Row = { signals: string[]; against?: string | null; height: number }
export type By = Schemas['By']
/** A chart page as it is laid out. */
export type Draft = { name: string; where: string; by: By; rollout: number | null; last: string; rows: Row[]; shared: boolean }

export const USUAL_HEIGHT = 210
export const LEAST_HEIGHT = 80
export const MOST_HEIGHT = 1200
export const EVERYBODY = 'serial ~ "*"'
/** What makes up a line. */
export const BY: { value: By; title: string }[] = [
  { value: 'device', title: 'each device' },
  { value: 'version', title: 'version' },
  { value: 'hw_rev', title: 'revision' },
  { value: 'ring', title: 'ring' },
]

export function emptyDraft(): Draft {
  return { name: '', where: '', by: 'device', rollout: null, last: '1h', rows: [], shared: false }
}

export function draftOf(page: Schemas['ChartPageOut']): Draft {
  const rows = page.rows.map((row) => ({ signals: [...row.signals], against: row.against ?? null, height: row.height ?? USUAL_HEIGHT }))
  return { name: page.name, where: page.where, by: page.by, rollout: page.rollout ?? null, last: page.last, rows, shared: page.shared }
}

/** As the calls of the API take it. */
export function sent(draft: Draft): Schemas['ChartPageIn'] {
  return { ...draft, where: draft.where || EVERYBODY, rollout: draft.by === 'ring' ? draft.rollout : null }
}

/** Who lays out a page sees what it lacks before it is kept. */
export function lacks(draft: Draft): string {
  if (!draft.name.trim()) return 'Give it a name.'
  if (!draft.rows.length) return 'Give it a row.'
  if (draft.rows.some((row) => !row.signals.length)) return 'A row has no signal.'
  if (draft.by === 'ring' && !draft.rollout) return 'Of which rollout are the rings?'
  return ''
}

/** A page as the file that the command line reads, without who keeps it. */
export function toToml(draft: Draft): string {
  const { name, where, by, rollout, last, rows } = sent(draft)
  const written = (rows ?? []).map((row) => ({ signals: row.signals, ...(row.against ? { against: row.against } : {}), height: row.height }))
  return `${stringify({ name, where, by, ...(rollout ? { rollout } : {}), last, rows: written })}\n`
}

const KEYS = ['name', 'where', 'by', 'rollout', 'last', 'rows']
const ROW_KEYS = ['signals', 'against', 'height']

/** Such a file as a page that is not kept yet. Throws an `Error` that says what is wrong; what the values may be, the service
 * says. */
export function fromToml(text: string): Draft {
  const read = parse(text) as Record<string, unknown>
  const stray = Object.keys(read).find((key) => !KEYS.includes(key))
  if (stray) throw new Error(`${stray}: a chart page has ${KEYS.join(', ')}, and nothing else.`)
  const rows = read.rows
  if (!Array.isArray(rows) || !rows.length) throw new Error('rows: a chart page has [[rows]], each with signals = ["…"].')
  const made = rows.map((row: Record<string, unknown>, at) => {
    const odd = Object.keys(row).find((key) => !ROW_KEYS.includes(key))
    if (odd) throw new Error(`row ${at + 1}: ${odd}: a row has ${ROW_KEYS.join(', ')}, and nothing else.`)
    if (!Array.isArray(row.signals)) throw new Error(`row ${at + 1}: which signals? Write signals = ["…"].`)
    return { signals: row.signals.map(String), against: row.against ? String(row.against) : null, height: Number(row.height ?? USUAL_HEIGHT) }
  })
  const rollout = read.rollout === undefined ? null : Number(read.rollout)
  return { name: String(read.name ?? ''), where: String(read.where ?? ''), by: (read.by ?? 'device') as By, rollout, last: String(read.last ?? '1h'), rows: made, shared: false }
}

/** The same rows with one of them so many places further down. */
export function moved<T>(rows: T[], at: number, by: number): T[] {
  const to = at + by
  const one = rows[at]
  if (one === undefined || to < 0 || to >= rows.length) return rows
  const others = rows.filter((_, place) => place !== at)
  return [...others.slice(0, to), one, ...others.slice(to)]
}
