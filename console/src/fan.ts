import type { Schemas } from './api/client'

export interface Point {
  at: number
  value: number
}
export interface Band {
  at: number
  low: number
  middle: number
  high: number
}
type Fan = Schemas['RehearsedFan']

/** A rehearsal's fan, moved by so many milliseconds: a plan that was started later runs so much later. */
export function bandOf(fan: Fan, what: 'good' | 'hurt', moved = 0): Band[] {
  const [low, middle, high] = what === 'good' ? [fan.good_low, fan.good, fan.good_high] : [fan.hurt_low, fan.hurt, fan.hurt_high]
  return fan.at.map((at, n) => ({ at: Date.parse(at) + moved, low: low[n] ?? 0, middle: middle[n] ?? 0, high: high[n] ?? 0 }))
}
/** What came to pass: how many are good at each moment of a rollout's course. */
export function goodOver(points: Schemas['CoursePoint'][]): Point[] {
  return points.map((point) => ({ at: Date.parse(point.at), value: Number((point.states as Record<string, number>).confirmed ?? 0) }))
}
/** The part of a fan in which something happens: up to a little after its last change. */
export function busy(band: Band[]): Band[] {
  const last = band[band.length - 1]
  if (!last) return band
  let end = band.length - 1
  while (end > 1 && band[end - 1]?.low === last.low && band[end - 1]?.high === last.high) end--
  return band.slice(0, Math.min(band.length, Math.max(3, Math.ceil(end * 1.15) + 1)))
}
/** Where a course has left its fan, as shares of its moments. */
export function outside(band: Band[], course: Point[]): number {
  if (!course.length || !band.length) return 0
  const left = course.filter((point) => {
    const at = band.filter((one) => one.at <= point.at).pop() ?? band[0]
    const next = band.find((one) => one.at > point.at) ?? at
    return at && next && (point.value < at.low - 0.5 || point.value > next.high + 0.5)
  })
  return left.length / course.length
}
