import { describe, expect, it } from 'vitest'

import type { Schemas } from './api/client'
import { layOut } from './river'

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

  it('is empty without samples, and has a span with one', () => {
    expect(layOut({ ...LINEAGE, samples: [] }, 1000, 200).bands).toEqual([])
    const one = layOut({ ...LINEAGE, samples: [{ at: LINEAGE.now, counts: { '2.4.0': 1 } }], versions: ['2.4.0'], crossings: [] }, 1000, 200)
    expect(numbers(one.bands[0]!.path).every(Number.isFinite)).toBe(true)
  })
})
