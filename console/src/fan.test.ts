import { describe, expect, it } from 'vitest'

import { bandOf, busy, goodOver, outside } from './fan'

const at = (minute: number) => new Date(Date.UTC(2026, 11, 1, 8, minute)).toISOString()
const fan = {
  at: [at(0), at(10), at(20), at(30), at(40)],
  good_low: [0, 2, 8, 9, 9],
  good: [0, 5, 9, 10, 10],
  good_high: [0, 8, 10, 10, 10],
  hurt_low: [0, 0, 0, 0, 0],
  hurt: [0, 0, 1, 1, 1],
  hurt_high: [0, 1, 2, 2, 2],
}

describe('a rehearsal’s fan', () => {
  it('is moved to when the rollout began', () => {
    const band = bandOf(fan, 'hurt', 3_600_000)
    expect(band[2]).toEqual({ at: Date.parse(at(80)), low: 0, middle: 1, high: 2 })
  })
  it('ends a little after nothing changes any more', () => {
    expect(busy(bandOf(fan, 'good')).length).toBe(5)
    const long = { ...fan, at: [...fan.at, ...Array.from({ length: 40 }, (_, n) => at(50 + n))] }
    for (const name of ['good_low', 'good', 'good_high', 'hurt_low', 'hurt', 'hurt_high'] as const) long[name] = [...fan[name], ...Array(40).fill(fan[name][4])]
    expect(busy(bandOf(long, 'good')).length).toBeLessThan(10)
  })
  it('tells how much of what happened was outside of it', () => {
    const points = [0, 10, 20, 30].map((minute, n) => ({ at: at(minute), states: { confirmed: [0, 6, 9, 3][n] ?? 0 } }))
    expect(outside(bandOf(fan, 'good'), goodOver(points as never))).toBe(0.25)
    expect(outside(bandOf(fan, 'good'), [])).toBe(0)
  })
})
