/** What can be typed next in a selector, and where a mistake stands. Pure, so that it can be tested by itself. */

export type FactName = { name: string; kind: string }
export type Place = { kind: 'name' | 'value'; word: string; from: number; name: string }

const OPERATOR = /([A-Za-z0-9_.-]+)\s*(?:=|!=|<=|>=|<|>|~|in\s*\((?:[^()]*,)?)\s*("?[A-Za-z0-9_.+-]*)$/
const WORD = /[A-Za-z0-9_.-]*$/
const JOINING = ['and', 'or', 'not', 'has', 'in']

/** What stands before the cursor: the beginning of a name, or of a value of `name`. */
export function placeOf(text: string, cursor: number): Place {
  const before = text.slice(0, cursor)
  const value = OPERATOR.exec(before)
  if (value) {
    const word = value[2] ?? ''
    return { kind: 'value', word: word.replace('"', ''), from: cursor - word.length, name: value[1] ?? '' }
  }
  const word = WORD.exec(before)?.[0] ?? ''
  return { kind: 'name', word, from: cursor - word.length, name: '' }
}

/** The names that fit what was begun, at most `most`. */
export function fitting(all: string[], word: string, most = 8): string[] {
  const begun = word.toLowerCase()
  const starting = all.filter((one) => one.toLowerCase().startsWith(begun) && one !== word)
  const inside = all.filter((one) => !one.toLowerCase().startsWith(begun) && one.toLowerCase().includes(begun))
  return [...starting, ...(begun ? inside : [])].slice(0, most)
}

/** Whether a word only joins comparisons, so that nothing is offered for it. */
export function joins(word: string): boolean {
  return JOINING.includes(word.toLowerCase())
}

/** The text with the offered word put in, and where the cursor goes. */
export function putIn(text: string, cursor: number, place: Place, offered: string): { text: string; cursor: number } {
  const plain = /^[A-Za-z0-9_.:+-]+$/.test(offered)
  const word = place.kind === 'name' ? `${offered} ` : plain ? offered : `"${offered}"`
  const head = text.slice(0, place.from) + word
  return { text: head + text.slice(cursor), cursor: head.length }
}

/** Where a mistake stands in the text (from 0), or null if the words do not say. */
export function mistakeAt(text: string, message: string): number | null {
  const at = /at character (\d+)/.exec(message)
  if (at) return Number(at[1]) - 1
  if (message.includes('ends too early')) return text.length
  const name = /^(\S+) is no fact/.exec(message)?.[1]
  const found = name ? text.indexOf(name) : -1
  return found >= 0 ? found : null
}
