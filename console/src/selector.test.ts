import { describe, expect, it } from 'vitest'

import { fitting, mistakeAt, placeOf, putIn } from './selector'

describe('what can be typed next', () => {
  it.each([
    ['', 'name', '', ''],
    ['bo', 'name', 'bo', ''],
    ['board = comb-s1 and si', 'name', 'si', ''],
    ['board = co', 'value', 'co', 'board'],
    ['site in (fernhollow, qu', 'value', 'qu', 'site'],
    ['site in (', 'value', '', 'site'],
    ['radio.version >= 2.', 'value', '2.', 'radio.version'],
    ['note = "two', 'value', 'two', 'note'],
  ])('%s', (text, kind, word, name) => {
    expect(placeOf(text, text.length)).toMatchObject({ kind, word, name })
  })

  it('offers what begins so first, then what has it inside', () => {
    expect(fitting(['version', 'radio.version', 'presence'], 'ver')).toEqual(['version', 'radio.version'])
    expect(fitting(['site'], 'site')).toEqual([])
  })

  it('puts the word in where it was begun, quoted if it must be', () => {
    const text = 'si and x'
    expect(putIn(text, 2, placeOf(text, 2), 'site')).toEqual({ text: 'site  and x', cursor: 5 })
    const value = 'site = fe'
    expect(putIn(value, 9, placeOf(value, 9), 'fern hollow')).toEqual({ text: 'site = "fern hollow"', cursor: 20 })
  })
})

describe('where a mistake stands', () => {
  it('is read from the words of the service', () => {
    expect(mistakeAt('board == x', "the selector goes wrong at character 8, at '= x'. Write")).toBe(7)
    expect(mistakeAt('board =', "the selector ends too early: 'board ='.")).toBe(7)
    expect(mistakeAt('a = 1 and bord = x', 'bord is no fact; board is.')).toBe(10)
    expect(mistakeAt('a = 1', 'something else')).toBeNull()
  })
})
