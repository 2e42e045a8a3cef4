import { describe, expect, it } from 'vitest'

import { inWords, LEAST, thickness } from './presence'

describe('presence', () => {
  it('shows one of 400 that is away, at least 4 pixels thick', () => {
    const [online, late, offline] = thickness({ online: 399, offline: 1 }, 400, 90)
    expect(offline).toBe(LEAST)
    expect(LEAST).toBeGreaterThanOrEqual(4)
    expect(late).toBe(0)
    expect(online).toBeCloseTo(90 - LEAST)
  })

  it('is true to scale where there are many', () => {
    expect(thickness({ online: 100, late: 100, offline: 200 }, 400, 80)).toEqual([20, 20, 40, 0])
  })

  it('draws nothing for nobody, and something for a few of whatever', () => {
    expect(thickness({}, 0, 90)).toEqual([0, 0, 0, 0])
    expect(thickness({ online: 1, offline: 399 }, 400, 90)[0]).toBe(LEAST)
  })

  it('says it in words', () => {
    expect(inWords({ online: 3, late: 1 })).toBe('3 online, 1 late, 0 offline, 0 never-seen')
  })
})
