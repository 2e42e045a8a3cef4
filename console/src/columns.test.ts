import { describe, expect, it } from 'vitest'

import { COLUMNS, labelColumn, turned } from './columns'

describe('columns', () => {
  it('sort up, then down, then not at all', () => {
    expect(turned('', 'hw_rev')).toBe('hw_rev')
    expect(turned('hw_rev', 'hw_rev')).toBe('-hw_rev')
    expect(turned('-hw_rev', 'hw_rev')).toBe('')
    expect(turned('-hw_rev', 'board')).toBe('board')
  })

  it('have names of their own', () => {
    expect(new Set(COLUMNS.map((one) => one.name)).size).toBe(COLUMNS.length)
    expect(labelColumn('site')).toEqual({ name: 'label.site', title: 'site', order: 'label.site' })
  })
})
