import { describe, expect, it } from 'vitest'

import { emptyPlan, fromToml, takes, taking, terse, toToml } from './plan'

describe('a plan as TOML and as a form', () => {
  it('comes back as it was', () => {
    const plan = { ...emptyPlan('comb-s1/hive-scale/2.5.0', 'board = comb-s1'), pace: { at_risk_at_once: 5 }, urgent: true }
    expect(fromToml(toToml(plan))).toEqual(plan)
  })

  it('leaves out what goes without saying', () => {
    const plan = { ...emptyPlan(), urgent: false, leave_out: null, numbers: { retries: 2, trial_for: '60s' }, calendar: { zone: 'UTC', windows: [] } }
    expect(terse(plan)).toEqual({
      numbers: { trial_for: '60s' },
      rings: [
        { name: 'pilot', count: 10, soak: '1h' },
        { name: 'all', soak: '1d' },
      ],
    })
  })

  it('keeps dates as text', () => {
    expect(fromToml('[calendar]\nstart = 2026-11-24T09:00:00Z\nlast_day = 2026-12-24\n').calendar).toEqual({
      start: '2026-11-24T09:00:00.000Z',
      last_day: '2026-12-24',
    })
  })

  it('says what is wrong with text that is no TOML', () => {
    expect(() => fromToml('name = ')).toThrow()
  })

  it('lets a ring take its devices in one way only', () => {
    const ring = { name: 'a', soak: '1h', count: 3 }
    expect(takes(ring)).toBe('count')
    expect(taking(ring, 'share')).toEqual({ name: 'a', soak: '1h', share: 0.1 })
    expect(takes(taking(ring, 'rest'))).toBe('rest')
    expect(takes(taking(ring, 'where'))).toBe('where')
  })
})
