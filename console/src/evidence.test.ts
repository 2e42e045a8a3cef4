import { expect, test } from 'vitest'

import { height, plain, steps } from './evidence'

test('the scale ends where the brake halts', () => {
  expect(height(40, 40)).toBe(1)
  expect(height(0.0001, 40)).toBe(0)
  expect(height(1, 40)).toBeGreaterThan(0.3)
  expect(height(400, 40)).toBeGreaterThan(1)
})

test('evidence is written plainly', () => {
  expect([plain(12.84), plain(0.02), plain(1e12)]).toEqual(['12.8', 'under 0.1', 'over 1000'])
})

test('a line of steps begins at 1 and ends at the right', () => {
  const path = steps([{ at: '2026-11-23T06:30:00Z', evidence: 40 }], 40, '2026-11-23T06:00:00Z', '2026-11-23T07:00:00Z', 100, 60, 10)
  expect(path.startsWith('M0 ')).toBe(true)
  expect(path).toContain('L50.0 10.0')
  expect(path.endsWith('L100 10.0')).toBe(true)
})
