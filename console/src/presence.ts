/** Devices by presence over time: how thick each band is drawn. */

export const ORDER = ['online', 'late', 'offline', 'never-seen'] as const
export type Presence = (typeof ORDER)[number]
export type PresenceCounts = Partial<Record<Presence, number>>

/** Who is not there is drawn at least so thick (of a chart 90 high): one of 400 away is seen. */
export const LEAST = 6

/**
 * The thickness of each band, in the order of `ORDER`, of a chart `height` high in which `most` devices fill all of it.
 * What is not online is never thinner than `LEAST`; online gives way.
 */
export function thickness(counts: PresenceCounts, most: number, height: number): number[] {
  const share = (name: Presence) => ((counts[name] ?? 0) / Math.max(1, most)) * height
  const away = ORDER.slice(1).map((name) => (counts[name] ? Math.max(LEAST, share(name)) : 0))
  const whole = ORDER.reduce((sum, name) => sum + share(name), 0)
  const given = away.reduce((sum, one) => sum + one, 0)
  return [Math.max(counts.online ? LEAST : 0, whole - given), ...away]
}

/** A sample in words. */
export function inWords(counts: PresenceCounts): string {
  return ORDER.map((name) => `${counts[name] ?? 0} ${name}`).join(', ')
}
