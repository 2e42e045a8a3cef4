import { describe, expect, it } from 'vitest'

import { age, aligned, bands, bridged, effectInWords, paired, sides, spanInWords, spanOf, withoutBegun, type Series } from './readings'

function series(points: [string, number][]): Series {
  return {
    now: '2026-05-02T08:01:00Z',
    signal: 'weight',
    unit: 'kg',
    kind: 'number',
    begin: '2026-05-02T08:00:00Z',
    end: '2026-05-02T08:00:10Z',
    step_s: 1,
    level: 'each',
    devices: 2,
    cut: false,
    series: [
      { key: 'TA-1', points: points.map(([at, mean]) => ({ at, count: 2, least: mean - 1, most: mean + 1, mean, last: mean })) },
      { key: 'TA-2', points: [] },
    ],
  }
}

describe('what is drawn of a series', () => {
  it('has every value in its place, and says of whom it is', () => {
    const { data, lines } = aligned([series([['2026-05-02T08:00:03Z', 30], ['2026-05-02T08:00:04Z', 31]])])
    expect(lines).toEqual([{ signal: 'weight', key: 'TA-1', unit: 'kg' }])
    expect(data[0]).toHaveLength(10)
    expect([data[1]?.[3], data[2]?.[3], data[3]?.[3], data[3]?.[4]]).toEqual([29, 31, 30, 31])
    expect(data[3]?.[5]).toBeNull()
  })

  it('draws through what is sent seldom, and shows a gap as a gap', () => {
    const every_third = [1, null, null, 2, null, null, 3, null, null, null, null, null, null, null, null, null, null, 4]
    const drawn = bridged(every_third)
    expect(drawn[1]).toBeUndefined()
    expect(drawn[8]).toBeNull()
  })
})

it('draws words as bands of the same word', () => {
  const said = (at: string, text: string) => ({ at: `2026-05-02T08:0${at}:00Z`, count: 1, least: null, most: null, mean: null, last: null, text })
  const begin = Date.parse('2026-05-02T08:00:00Z') / 1000
  const drawn = bands([said('1', 'up'), said('2', 'up'), said('4', 'down')], { begin, end: begin + 600 })
  expect(drawn.map((one) => [one.text, one.left, one.width])).toEqual([['up', 10, 30], ['down', 40, 0.5]])
  const later = bands([said('1', 'up'), said('2', 'up'), said('4', 'down')], { begin: begin + 180, end: begin + 780 })
  expect(later.map((one) => [one.text, one.left, one.width])).toEqual([['up', 0, 10], ['down', 10, 0.5]])
})

it('says how old something is', () => {
  expect([age(-2), age(45), age(600), age(8000), age(300_000)]).toEqual(['0 s', '45 s', '10 min', '2 h', '3 d'])
})

it('says what an update did, with its interval', () => {
  const none = { before: null, after: null, control_before: null, control_after: null }
  expect(effectInWords({ ...none, difference: -2.1, low: -2.634, high: -1.5 })).toBe('−2.1 (−2.63 … −1.5)')
  expect(effectInWords({ ...none, difference: 1, low: null, high: null })).toBe('+1')
  expect(effectInWords({ ...none, difference: null, low: null, high: null })).toBe('too little to say')
})

it('puts both groups over one axis', () => {
  const course = (after_s: number, median: number) => ({ after_s, devices: 3, low: median - 1, median, high: median + 1 })
  const drawn = sides({ updated: [course(-3600, 80), course(3600, 70)], control: [course(3600, 79)] } as Parameters<typeof sides>[0])
  expect(drawn[0]).toEqual([-1, 1])
  expect(drawn[3]).toEqual([80, 70])
  expect(drawn[6]).toEqual([null, 79])
})

describe('a row of several signals', () => {
  const first = series([['2026-05-02T08:00:03Z', 30], ['2026-05-02T08:00:04Z', 31], ['2026-05-02T08:00:07Z', 32]])
  const other = { ...series([['2026-05-02T08:00:04Z', 12], ['2026-05-02T08:00:03Z', 14], ['2026-05-02T08:00:09Z', 9]]), signal: 'temperature', unit: 'Cel' }

  it('has one time axis for all', () => {
    const { data, lines } = aligned([first, other])
    expect(lines.map((line) => line.signal)).toEqual(['weight', 'temperature'])
    expect([data[3]?.[4], data[6]?.[4], data[6]?.[7]]).toEqual([31, 12, undefined])
  })

  it('leaves out a bucket that is not over where not everybody has sent yet', () => {
    const now = { ...first, now: '2026-05-02T08:00:07.500Z' }
    expect(withoutBegun(now).series[0]?.points.map((point) => point.mean)).toEqual([30, 31])
    expect(withoutBegun({ ...now, kind: 'state' }).series[0]?.points).toHaveLength(3)
  })

  it('has a dot wherever both have a value, in the order of the other', () => {
    const { data, lines } = paired([first], other)
    expect(lines).toEqual([{ signal: 'weight', key: 'TA-1', unit: 'kg' }])
    expect(data).toEqual([[12, 14], [31, 30]])
    expect(paired([first], { ...other, series: [] }).lines).toEqual([])
  })
})

describe('lengths of time', () => {
  it('are read as they are written', () => {
    for (const text of ['90s', '30m', '12h', '7d']) expect(spanInWords(spanOf(text) ?? 0)).toBe(text)
    expect([spanOf('soon'), spanOf('1.5h'), spanInWords(604_800)]).toEqual([null, 5400, '7d'])
  })
})
