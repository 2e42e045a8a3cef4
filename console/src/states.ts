export const STATES = [
  'confirmed', 'failed', 'reverted', 'silent', 'relapsed', 'rolled-back', 'called-off',
  'proving', 'installing', 'cleared', 'staged', 'downloading', 'offered', 'queued',
] as const // prettier-ignore
export type State = (typeof STATES)[number]

export const BAD: readonly State[] = ['failed', 'reverted', 'silent', 'relapsed']

const GREY_BLUE = 'var(--grey-blue)'
const SLATE = 'var(--slate)'
const HONEY = 'var(--honey)'
const SAGE = 'var(--sage)'
const ROSE = 'var(--rose)'
const STONE = 'var(--stone)'

export const COLOURS: Record<State, string> = {
  queued: GREY_BLUE,
  offered: SLATE,
  downloading: SLATE,
  staged: SLATE,
  cleared: HONEY,
  installing: HONEY,
  proving: HONEY,
  confirmed: SAGE,
  failed: ROSE,
  reverted: ROSE,
  silent: ROSE,
  relapsed: ROSE,
  'called-off': STONE,
  'rolled-back': STONE,
}

export type Counts = Partial<Record<State, number>>

export function total(counts: Counts): number {
  return Object.values(counts).reduce((sum, count) => sum + count, 0)
}

/** The parts of a whole in the order of STATES, as shares from 0 to 1 that begin where the one before ended. */
export function shares(counts: Counts): { state: State; from: number; to: number; count: number }[] {
  const whole = total(counts)
  const parts = []
  let seen = 0
  for (const state of STATES) {
    const count = counts[state] ?? 0
    if (count === 0) continue
    parts.push({ state, count, from: seen / whole, to: (seen + count) / whole })
    seen += count
  }
  return parts
}
