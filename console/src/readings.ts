import type uPlot from 'uplot'

import type { Schemas } from './api/client'

export type Series = Schemas['SeriesOut']
export type Range = { begin: number; end: number }

/** A line of a row: one series of one signal. */
export type Line = { signal: string; key: string; unit: string }

/** What uPlot draws: a time axis (s) that all series of all signals share, and of each its least, most and mean; where a
 * bucket has no values there is a gap. */
export function aligned(told: Series[]): { data: uPlot.AlignedData; lines: Line[] } {
  const begin = Math.min(...told.map((one) => Date.parse(one.begin) / 1000))
  const end = Math.max(...told.map((one) => Date.parse(one.end) / 1000))
  const step = Math.min(...told.map((one) => one.step_s))
  const times: number[] = []
  for (let at = begin; at < end; at += step) times.push(at)
  const columns: (number | null)[][] = []
  const lines: Line[] = []
  for (const signal of told) {
    for (const one of signal.series) {
      if (!one.points.length) continue
      const least = new Array<number | null>(times.length).fill(null)
      const most = new Array<number | null>(times.length).fill(null)
      const mean = new Array<number | null>(times.length).fill(null)
      for (const point of one.points) {
        const place = Math.round((Date.parse(point.at) / 1000 - begin) / step)
        if (place < 0 || place >= times.length) continue
        least[place] = point.least ?? null
        most[place] = point.most ?? null
        mean[place] = point.mean ?? null
      }
      columns.push(least, most, bridged(mean))
      lines.push({ signal: signal.signal, key: one.key, unit: signal.unit })
    }
  }
  return { data: [times, ...columns] as uPlot.AlignedData, lines }
}

/** Without the bucket that time is in: of several devices not all have sent something in it yet. */
export function withoutBegun(told: Series): Series {
  const open = (Date.parse(told.now) / 1000 - told.step_s) * 1000
  return { ...told, series: told.series.map((one) => ({ ...one, points: one.points.filter((point) => told.kind !== 'number' || Date.parse(point.at) <= open) })) }
}

/** Signals against another one: wherever both have a value in the same bucket, a dot. The values of the other are the axis, a
 * column for each series; nothing where a dot is another's. */
export function paired(told: Series[], against: Series): { data: uPlot.AlignedData; lines: Line[] } {
  const lines: Line[] = []
  const dots: { across: number; up: number; line: number }[] = []
  for (const signal of told) {
    for (const one of signal.series) {
      const other = against.series.find((each) => each.key === one.key)
      const across = new Map((other?.points ?? []).map((point) => [point.at, point.mean ?? null]))
      const found = one.points.flatMap((point) => {
        const place = across.get(point.at)
        return place === null || place === undefined || point.mean === null || point.mean === undefined ? [] : [{ across: place, up: point.mean, line: lines.length }]
      })
      if (!found.length) continue
      dots.push(...found)
      lines.push({ signal: signal.signal, key: one.key, unit: signal.unit })
    }
  }
  dots.sort((one, other) => one.across - other.across)
  const columns = lines.map((_, line) => dots.map((dot) => (dot.line === line ? dot.up : null)))
  return { data: [dots.map((dot) => dot.across), ...columns] as uPlot.AlignedData, lines }
}

/** A value seldom sent leaves buckets empty that are no gap: what is missing for less than three of its own periods is
 * drawn through (uPlot does so for undefined, and breaks the line at null). */
export function bridged(values: (number | null)[]): (number | null | undefined)[] & (number | null)[] {
  const places = values.flatMap((value, place) => (value === null ? [] : [place]))
  const apart = places.slice(1).map((place, at) => place - (places[at] ?? 0))
  const usual = [...apart].sort((one, other) => one - other)[Math.floor(apart.length / 2)] ?? 1
  const found: (number | null | undefined)[] = [...values]
  places.slice(1).forEach((place, at) => {
    const before = places[at] ?? 0
    if (place - before <= 3 * usual) for (let empty = before + 1; empty < place; empty += 1) found[empty] = undefined
  })
  return found as (number | null | undefined)[] & (number | null)[]
}

/** What a device said in words, as bands of the same word, in percent of the stretch that is looked at. */
export function bands(points: Series['series'][number]['points'], range: Range): { text: string; from: string; left: number; width: number }[] {
  const place = (at: number) => (100 * (at - range.begin)) / (range.end - range.begin)
  const found: { text: string; from: string; left: number; width: number }[] = []
  points.forEach((point, number) => {
    // What began before the stretch is drawn, and read, from its edge on.
    const left = Math.max(0, place(Date.parse(point.at) / 1000))
    const next = points[number + 1]
    const right = next ? Math.max(0, place(Date.parse(next.at) / 1000)) : left + 0.5
    const last = found[found.length - 1]
    if (last && last.text === point.text) last.width = right - last.left
    else found.push({ text: point.text ?? '', from: point.at, left, width: right - left })
  })
  return found
}

/** The stretch of time that ends now and is so long (s). */
export function lately(seconds: number, now: number): Range {
  return { begin: now / 1000 - seconds, end: now / 1000 }
}

export const RANGES: { title: string; seconds: number }[] = [
  { title: '15 min', seconds: 900 },
  { title: '1 h', seconds: 3600 },
  { title: '6 h', seconds: 21_600 },
  { title: '1 d', seconds: 86_400 },
  { title: '7 d', seconds: 604_800 },
  { title: '30 d', seconds: 2_592_000 },
]

/** A length of time (s) as plans and pages write it: 90s, 30m, 12h, 7d. */
export function spanInWords(seconds: number): string {
  for (const [size, unit] of [[86_400, 'd'], [3600, 'h'], [60, 'm']] as const) if (seconds % size === 0) return `${seconds / size}${unit}`
  return `${seconds}s`
}

/** The same in seconds; null if it is none. */
export function spanOf(text: string): number | null {
  const found = /^(\d+(?:\.\d+)?)(s|m|h|d)$/.exec(text.trim())
  const size = { s: 1, m: 60, h: 3600, d: 86_400 }[found?.[2] ?? 's'] ?? 1
  return found ? Number(found[1]) * size : null
}

/** How old something is, in words. */
export function age(seconds: number): string {
  if (seconds >= 172_800) return `${Math.round(seconds / 86_400)} d`
  if (seconds >= 7200) return `${Math.round(seconds / 3600)} h`
  if (seconds >= 120) return `${Math.round(seconds / 60)} min`
  return `${Math.max(0, Math.round(seconds))} s`
}

/** The courses of both groups over one axis of hours after the switch. */
export function sides(change: Schemas['ChangeOut']): uPlot.AlignedData {
  const times = [...new Set([...change.updated, ...change.control].map((one) => one.after_s))].sort((one, other) => one - other)
  const place = new Map(times.map((at, number) => [at, number]))
  const columns = [change.updated, change.control].flatMap((course) => {
    const low = new Array<number | null>(times.length).fill(null)
    const high = new Array<number | null>(times.length).fill(null)
    const median = new Array<number | null>(times.length).fill(null)
    for (const one of course) {
      const at = place.get(one.after_s) ?? 0
      low[at] = one.low
      high[at] = one.high
      median[at] = one.median
    }
    return [low, high, median]
  })
  return [times.map((at) => at / 3600), ...columns] as uPlot.AlignedData
}

/** A number with three digits, and a minus that is one. */
export function number(value: number): string {
  return `${value < 0 ? '−' : ''}${Number(Math.abs(value).toPrecision(3))}`
}

/** The difference that an update made, with its interval. */
export function effectInWords(effect: Schemas['EffectOut']): string {
  const signed = (value: number) => (value < 0 ? number(value) : `+${number(value)}`)
  if (effect.difference === null || effect.difference === undefined) return 'too little to say'
  const interval = effect.low === null || effect.low === undefined ? '' : ` (${signed(effect.low)} … ${signed(effect.high ?? 0)})`
  return `${signed(effect.difference)}${interval}`
}
