import { describe, expect, it } from 'vitest'

import { emptyDraft, fromToml, lacks, moved, sent, toToml, type Draft } from './chartPage'

const page: Draft = {
  name: 'Weighing "at night"',
  where: 'rollout = 4',
  by: 'ring',
  rollout: 4,
  last: '12h',
  rows: [
    { signals: ['weight', 'temperature'], against: null, height: 300 },
    { signals: ['weight'], against: 'temperature', height: 210 },
  ],
  shared: true,
}

describe('a chart page as a file', () => {
  it('comes back as it was, but for who keeps it', () => {
    expect(fromToml(toToml(page))).toEqual({ ...page, shared: false })
    expect(toToml(page)).not.toContain('shared')
  })

  it('says what is wrong', () => {
    expect(() => fromToml('name = ')).toThrow()
    expect(() => fromToml('lasts = "1h"')).toThrow('lasts: a chart page has')
    expect(() => fromToml('name = "a"')).toThrow('[[rows]]')
    expect(() => fromToml('[[rows]]\nagainst = "weight"')).toThrow('row 1: which signals?')
    expect(() => fromToml('[[rows]]\nsignals = ["weight"]\ncolour = "red"')).toThrow('row 1: colour')
  })
})

describe('a chart page that is laid out', () => {
  it('says what it lacks', () => {
    expect(lacks(emptyDraft())).toContain('name')
    expect(lacks({ ...page, rows: [] })).toContain('row')
    expect(lacks({ ...page, rows: [{ signals: [], height: 210 }] })).toContain('no signal')
    expect(lacks({ ...page, rollout: null })).toContain('rollout')
    expect(lacks(page)).toBe('')
  })

  it('is of all devices where none are said, and of a rollout only by ring', () => {
    expect(sent({ ...page, where: '', by: 'device' })).toMatchObject({ where: 'serial ~ "*"', rollout: null })
  })

  it('has its rows in the order that they are moved to', () => {
    expect(moved(['a', 'b', 'c'], 0, 1)).toEqual(['b', 'a', 'c'])
    expect(moved(['a', 'b', 'c'], 2, -1)).toEqual(['a', 'c', 'b'])
    expect(moved(['a', 'b'], 0, -1)).toEqual(['a', 'b'])
  })
})
