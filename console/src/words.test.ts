import { describe, expect, it } from 'vitest'

import { shares, total, STATES, COLOURS } from './states'
import { ago, amount, brings, grouped, inWords, listed, moment, percent } from './words'

describe('shares', () => {
  it('cover the whole without gaps, in the order of the states', () => {
    const parts = shares({ queued: 10, confirmed: 25, reverted: 5 })
    expect(parts.map((part) => part.state)).toEqual(['confirmed', 'reverted', 'queued'])
    expect(parts[0]?.from).toBe(0)
    expect(parts.at(-1)?.to).toBe(1)
    parts.slice(1).forEach((part, index) => expect(part.from).toBe(parts[index]?.to))
  })

  it('are none where nothing has begun', () => {
    expect(shares({})).toEqual([])
    expect(total({})).toBe(0)
  })
})

it('every state has a colour', () => {
  expect(Object.keys(COLOURS).sort()).toEqual([...STATES].sort())
})

describe('words', () => {
  it('tell an age in its largest unit, and never a negative one', () => {
    const now = Date.parse('2026-11-23T12:00:00Z')
    expect(ago(now - 42_000, now)).toBe('42 s ago')
    expect(ago(now - 3 * 3600_000, now)).toBe('3 h ago')
    expect(ago(now + 5000, now)).toBe('0 s ago')
  })

  it('tell a size', () => {
    expect(amount(500)).toBe('500 B')
    expect(amount(196_608)).toBe('192.0 KiB')
    expect(amount(64 * 1024 ** 2)).toBe('64.0 MiB')
  })

  it('list named values in order, with yes and no', () => {
    expect(listed({ b: true, a: 5 })).toBe('a 5, b yes')
    expect(listed({ site: 'fernhollow' }, ' = ')).toBe('site = fernhollow')
  })

  it('tell a moment, or that there is none', () => {
    expect(moment('2026-11-23T12:34:56.789Z')).toBe('2026-11-23 12:34:56')
    expect(moment(null)).toBe('–')
  })
})

describe('a countdown', () => {
  it('is said in the unit that tells most', () => {
    expect([-5, 45_000, 12.5 * 60_000, 185 * 60_000, 53 * 3_600_000].map(inWords)).toEqual(['in 0 s', 'in 45 s', 'in 12 min', 'in 3 h 5 min', 'in 2 d 5 h'])
  })
})

describe('grouped', () => {
  it('sets thousands apart', () => expect([7, 999, 1000, 1_234_567].map(grouped)).toEqual(['7', '999', '1,000', '1,234,567']))
})

describe('what a rollout brings', () => {
  it('is one release, or two by lot, and which of them was chosen', () => {
    const one = { release: 'b/l/2.5.0' }
    expect(brings(one)).toBe('b/l/2.5.0')
    expect(brings({ ...one, second_release: 'b/l/2.5.1', chosen: null })).toBe('b/l/2.5.0 or 2.5.1 by lot')
    expect(brings({ ...one, second_release: 'b/l/2.5.1', chosen: 'new' })).toBe('b/l/2.5.0 or 2.5.1 by lot, then new')
  })
  it('says shares to a tenth where they are small', () => {
    expect([0, 0.012, 0.05, 0.123, 1].map(percent)).toEqual(['0 %', '1.2 %', '5 %', '12 %', '100 %'])
  })
})
