import type { Schemas } from './api/client'

type Lineage = Schemas['LineageOut']

/** One version's stretch of the river: the outline as an SVG path, and where its name fits best. */
export type Band = { version: string; path: string; label: { x: number; y: number } | null; now: number }
export type Mark = { id: number; version: string; x: number; end: number | null; state: string; label: string; lane: number | null; left: number }
export type Tick = { x: number; at: Date }
export type River = { bands: Band[]; marks: Mark[]; ticks: Tick[]; moments: { share: number; words: string }[]; lanes: number; most: number }

const LEAST_SPAN = 60_000
const TURN = 14
const TICKS = 5
// A name needs so many pixels of room.
const THICK = 14
const LONG = 60
// Labels of rollouts stand in lanes above each other, so that none runs into the next.
const LANES = 5
const LETTER = 6.6
const GAP = 12

/**
 * Lays out a river: from left to right the time, the width of each version's band the devices that ran it. Bands are
 * stacked around the middle, lowest version at the bottom. Between samples the counts hold; a change bends over a few
 * pixels. What was before `since` (milliseconds since 1970) is left out.
 */
export function layOut(lineage: Lineage, width: number, height: number, since = -Infinity): River {
  const samples = lineage.samples.map((sample) => ({ at: Date.parse(sample.at), counts: sample.counts, total: sum(sample.counts) }))
  const first = samples.at(0)
  const last = samples.at(-1)
  if (!first || !last) return { bands: [], marks: [], ticks: [], moments: [], lanes: 0, most: 0 }
  const end = Date.parse(lineage.now)
  const start = Math.min(Math.max(first.at, since), end - LEAST_SPAN)
  const x = (at: number) => ((Math.min(Math.max(at, start), end) - start) / (end - start)) * width
  const most = Math.max(1, ...samples.map((sample) => sample.total))
  const scale = height / most

  const stretches = samples.map((sample, index) => {
    const next = samples.at(index + 1)
    return { ...sample, from: x(sample.at), to: next && index + 1 < samples.length ? x(next.at) : width }
  })
  const bands = lineage.versions.map((version, rank) => {
    const below = lineage.versions.slice(0, rank)
    const levels = stretches.map(({ from, to, counts, total }) => {
      const low = height / 2 + (total * scale) / 2 - below.reduce((all, one) => all + (counts[one] ?? 0), 0) * scale
      return { from, to, low, high: low - (counts[version] ?? 0) * scale }
    })
    const high = levels.map((level) => ({ ...level, y: level.high }))
    const low = levels.map((level) => ({ ...level, y: level.low }))
    const path = `M${along(high).join('')}L${along(low, true).join('').slice(1)}Z`
    return { version, path, label: widest(levels), now: last.counts[version] ?? 0 }
  })
  const marks = inLanes(
    lineage.crossings.filter((one) => Date.parse(one.ended_at ?? lineage.now) >= start).map((one) => ({
      id: one.id,
      version: one.version,
      state: one.state,
      label: `${one.id} → ${one.version}`,
      x: x(Date.parse(one.started_at)),
      end: one.ended_at ? x(Date.parse(one.ended_at)) : null,
    })),
    width,
  )
  const lanes = marks.reduce((most, mark) => Math.max(most, (mark.lane ?? -1) + 1), 0)
  const moments = samples.map((sample) => ({
    share: x(sample.at) / width,
    words: `${new Date(sample.at).toISOString().slice(5, 16).replace('T', ' ')}: ${inWords(sample.counts, lineage.versions)}`,
  }))
  const ticks = Array.from({ length: TICKS }, (_, n) => {
    const share = n / (TICKS - 1)
    return { x: share * width, at: new Date(start + share * (end - start)) }
  })
  return { bands, marks, ticks, moments, lanes, most }
}

function inWords(counts: Record<string, number>, versions: string[]): string {
  return versions.filter((version) => counts[version]).map((version) => `${counts[version]} run ${version}`).join(', ') || 'nobody'
}

/**
 * Gives each label the lowest lane in which it has room; `left` is where it begins. The newest come first, since they are
 * looked for; one for which no lane has room keeps its mark without a label (`lane` is null).
 */
export function inLanes(marks: Omit<Mark, 'lane' | 'left'>[], width: number): Mark[] {
  const taken: [number, number][][] = Array.from({ length: LANES }, () => [])
  const placed = [...marks].sort((one, other) => other.id - one.id).map((mark) => {
    const long = mark.label.length * LETTER
    const left = Math.max(0, Math.min(mark.x, width - long))
    const free = taken.findIndex((lane) => lane.every(([from, to]) => left > to + GAP || left + long + GAP < from))
    if (free >= 0) taken[free]?.push([left, left + long])
    return { ...mark, left, lane: free >= 0 ? free : null }
  })
  return placed.sort((one, other) => one.id - other.id)
}

type Level = { from: number; to: number; y: number }

/** An edge of a band as path commands: level within each stretch, bending to the next level where a stretch begins. */
function along(levels: Level[], backward = false): string[] {
  const corners: { x: number; y: number; bend: boolean }[] = []
  let before: Level | null = null
  for (const level of levels) {
    const turn = before ? Math.min(TURN, (level.to - level.from) / 2) : 0
    if (before) corners.push({ x: level.from, y: before.y, bend: false })
    corners.push({ x: level.from + turn, y: level.y, bend: before !== null })
    corners.push({ x: level.to, y: level.y, bend: false })
    before = level
  }
  const commands: string[] = []
  let last: { x: number; y: number; bend: boolean } | null = null
  for (const corner of backward ? corners.reverse() : corners) {
    // A bend belongs to its later end: going back, that is where it begins.
    const bent = backward ? last?.bend : corner.bend
    if (!last) commands.push(`${backward ? 'L' : ''}${at(corner.x, corner.y)}`)
    else if (bent) {
      const middle = (last.x + corner.x) / 2
      commands.push(`C${at(middle, last.y)} ${at(middle, corner.y)} ${at(corner.x, corner.y)}`)
    } else commands.push(`L${at(corner.x, corner.y)}`)
    last = corner
  }
  return commands
}

function at(x: number, y: number): string {
  return `${x.toFixed(1)} ${y.toFixed(1)}`
}

/** The middle of the longest run that is thick enough for a name; null where there is none. */
function widest(stretches: { from: number; to: number; low: number; high: number }[]): Band['label'] {
  const runs: { from: number; to: number }[] = []
  let open = false
  for (const { from, to, low, high } of stretches) {
    const last = runs.at(-1)
    const thick = low - high >= THICK
    if (thick && open && last) last.to = to
    else if (thick) runs.push({ from, to })
    open = thick
  }
  const best = runs.sort((one, other) => other.to - other.from - (one.to - one.from)).at(0)
  if (!best || best.to - best.from < LONG) return null
  const x = (best.from + best.to) / 2
  const there = stretches.find((one) => one.from <= x && x <= one.to)
  return there ? { x, y: (there.low + there.high) / 2 } : null
}

function sum(counts: Record<string, number>): number {
  return Object.values(counts).reduce((all, one) => all + one, 0)
}
