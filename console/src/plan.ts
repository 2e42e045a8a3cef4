import { parse, stringify } from 'smol-toml'

import type { Schemas } from './api/client'

type Loose<T> = { [K in keyof T]?: T[K] extends (infer I)[] ? I[] : T[K] extends object ? Partial<T[K]> : T[K] }
/** A plan as it is written: what goes without saying may be left out. */
export type PlanRing = Loose<Schemas['PlanRing']> & { name: string }
export type PlanDocument = Omit<Loose<Schemas['PlanDocument']>, 'rings' | 'calendar'> & {
  name: string
  release: string
  target: string
  rings: PlanRing[]
  calendar?: Omit<Partial<Schemas['PlanCalendar']>, 'windows'> & { windows?: (Partial<Schemas['PlanWindow']> & { begin: string; end: string })[] }
}
/** The same as the calls of the API take it. */
export type Sent = Schemas['PlanDocument']
export type Takes = 'where' | 'serials' | 'count' | 'share' | 'rest'

/** What a plan means where it says nothing; what equals it need not be written down. */
const SILENT: Record<string, unknown> = {
  urgent: false,
  switch: 'when-staged',
  latecomers: false,
  log: false,
  calendar: { zone: 'UTC', zone_of: 'plan' },
  order: { switch: 'when-staged', keep_reachable: true },
  device: { battery_at_least: 30, charging: false, not_busy: true },
  owner: { may_postpone: 3, postpone_by: '1d', must_consent: false, message: '', contact: '' },
  pace: {},
  numbers: { retries: 2, retry_bad: false, retry_pause: '5m', answer_within: '30m', wait_at_most: '1d', trial_for: '30s' },
  radio: { region: 'EU868', repair: 'session' },
  brake: { firmware_limit: 0.02, delivery_limit: 0.1, alpha: 0.05, watch_by: ['hw_rev'], min_good: 1 },
}
const SILENT_RING: Record<string, unknown> = { enough: 0.9, opens: 'by-itself' }

export function emptyPlan(release = '', target = ''): PlanDocument {
  return {
    name: release ? `${release.split('/')[2]} outwards` : '',
    release,
    target,
    rings: [
      { name: 'pilot', count: 10, soak: '1h' },
      { name: 'all', soak: '1d' },
    ],
  } as PlanDocument
}

/** A plan without what goes without saying. */
export function terse(plan: object): Record<string, unknown> {
  return trimmed(plan as Record<string, unknown>, SILENT)
}

function trimmed(values: Record<string, unknown>, silent: Record<string, unknown>): Record<string, unknown> {
  const kept: Record<string, unknown> = {}
  for (const [name, value] of Object.entries(values)) {
    if (value === null || value === undefined || value === '' || (Array.isArray(value) && value.length === 0)) continue
    const usual = silent[name]
    if (name === 'rings') kept[name] = (value as Record<string, unknown>[]).map((ring) => trimmed(ring, SILENT_RING))
    else if (typeof value === 'object' && !Array.isArray(value)) {
      const inner = trimmed(value as Record<string, unknown>, (usual ?? {}) as Record<string, unknown>)
      if (Object.keys(inner).length) kept[name] = inner
    } else if (JSON.stringify(value) !== JSON.stringify(usual)) kept[name] = value
  }
  return kept
}

export function toToml(plan: object): string {
  return stringify(terse(plan))
}

/** A plan from TOML; dates become text, as JSON has no others. */
export function fromToml(text: string): PlanDocument {
  return JSON.parse(JSON.stringify(parse(text))) as PlanDocument
}

export function takes(ring: PlanRing): Takes {
  if (ring.where != null) return 'where'
  if (ring.serials?.length) return 'serials'
  if (ring.count != null) return 'count'
  return ring.share != null ? 'share' : 'rest'
}

/** The ring, taking its devices in another way. */
export function taking(ring: PlanRing, how: Takes): PlanRing {
  const { where: _w, serials: _s, count: _c, share: _h, ...left } = ring
  const first: Record<Takes, object> = { where: { where: '' }, serials: { serials: [''] }, count: { count: 10 }, share: { share: 0.1 }, rest: {} }
  return { ...left, ...first[how] } as PlanRing
}
