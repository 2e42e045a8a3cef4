import { describe, expect, it } from 'vitest'

import type { Schemas } from './api/client'
import { inLanes, layOut } from './river'

const LINEAGE: Schemas['LineageOut'] = {
  board: 'comb-s1',
  line: 'hive-scale',
  now: '2026-11-23T10:00:00Z',
  versions: ['2.4.0', '2.5.0'],
  samples: [
    { at: '2026-11-23T08:00:00Z', counts: { '2.4.0': 40 } },
    { at: '2026-11-23T09:00:00Z', counts: { '2.4.0': 10, '2.5.0': 30 } },
  ],
  crossings: [
    { id: 1, name: 'all', version: '2.5.0', state: 'finished', started_at: '2026-11-23T08:30:00Z', ended_at: '2026-11-23T09:00:00Z' },
  ],
}

function numbers(path: string): number[] {
  return (path.match(/-?\d+(\.\d+)?/g) ?? []).map(Number)
}

describe('the river', () => {
  const river = layOut(LINEAGE, 1000, 200)

  it('has a band for each version, lowest first, and the count of now', () => {
    expect(river.bands.map((band) => [band.version, band.now])).toEqual([['2.4.0', 10], ['2.5.0', 30]])
    expect(river.most).toBe(40)
  })

  it('gives the widest sample the whole height', () => {
    const ys = numbers(river.bands[0]!.path).filter((_, index) => index % 2 === 1)
    expect(Math.max(...ys)).toBe(200)
    expect(Math.min(...ys)).toBe(0)
  })

  it('marks a rollout where it began and ended', () => {
    expect(river.marks[0]).toMatchObject({ id: 1, x: 250, end: 500 })
  })

  it('names a band where there is room', () => {
    expect(river.bands[0]!.label).toMatchObject({ x: 500, y: 100 })
    expect(river.bands[1]!.label?.x).toBe(750)
  })

  it('leaves out what was long ago', () => {
    const late = layOut(LINEAGE, 1000, 200, Date.parse('2026-11-23T09:00:00Z'))
    expect(late.ticks[0]!.at.toISOString()).toBe('2026-11-23T09:00:00.000Z')
    expect(late.bands[1]!.label?.x).toBe(500)
    expect(late.marks).toHaveLength(1)
    expect(layOut(LINEAGE, 1000, 200, Date.parse('2026-11-23T09:30:00Z')).marks).toEqual([])
  })

  it('lets no two labels of rollouts run into each other', () => {
    const crowd = Array.from({ length: 30 }, (_, n) => ({ id: n + 1, version: '2.5.0', state: 'finished', label: `${n + 1} → 2.5.0`, x: 400 + 9 * n, end: null }))
    const marks = inLanes(crowd, 1100)
    expect(marks.map((mark) => mark.id)).toEqual(crowd.map((mark) => mark.id))
    const shown = marks.filter((mark) => mark.lane !== null)
    expect(shown.length).toBeGreaterThan(8)
    expect(shown.at(-1)!.id).toBe(30)
    for (const one of shown) {
      expect(one.left + 6.6 * one.label.length).toBeLessThanOrEqual(1100)
      for (const other of shown) {
        const apart = one.left + 6.6 * one.label.length < other.left || other.left + 6.6 * other.label.length < one.left
        expect(one === other || one.lane !== other.lane || apart).toBe(true)
      }
    }
  })

  it('tells of a moment what was there', () => {
    expect(river.moments.map((one) => one.share)).toEqual([0, 0.5])
    expect(river.moments[1]!.words).toBe('11-23 09:00: 10 run 2.4.0, 30 run 2.5.0')
  })

  it('is empty without samples, and has a span with one', () => {
    expect(layOut({ ...LINEAGE, samples: [] }, 1000, 200).bands).toEqual([])
    const one = layOut({ ...LINEAGE, samples: [{ at: LINEAGE.now, counts: { '2.4.0': 1 } }], versions: ['2.4.0'], crossings: [] }, 1000, 200)
    expect(numbers(one.bands[0]!.path).every(Number.isFinite)).toBe(true)
  })
})
