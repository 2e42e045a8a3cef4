/** How long ago, in words; both in milliseconds since 1970. */
export function ago(then: number, now: number): string {
  const seconds = Math.max(0, (now - then) / 1000)
  if (seconds < 60) return `${Math.round(seconds)} s ago`
  if (seconds < 3600) return `${Math.round(seconds / 60)} min ago`
  if (seconds < 86400) return `${Math.round(seconds / 3600)} h ago`
  return `${Math.round(seconds / 86400)} d ago`
}

/** A time to come, in words; from milliseconds. */
export function inWords(ms: number): string {
  const seconds = Math.max(0, Math.round(ms / 1000))
  if (seconds < 60) return `in ${seconds} s`
  const minutes = Math.floor(seconds / 60)
  if (minutes < 60) return `in ${minutes} min`
  const hours = Math.floor(minutes / 60)
  return hours < 48 ? `in ${hours} h ${minutes % 60} min` : `in ${Math.floor(hours / 24)} d ${hours % 24} h`
}

/** How long something takes or took; from milliseconds. */
/** A share (0–1) as people say it: to a tenth below ten per cent. */
export function percent(share: number): string {
  const hundredths = 100 * share
  return `${hundredths.toFixed(hundredths > 0 && Math.abs(hundredths) < 9.95 && hundredths % 1 ? 1 : 0)} %`
}

export function lasted(ms: number): string {
  const seconds = Math.max(0, Math.round(ms / 1000))
  if (seconds < 60) return `${seconds} s`
  const minutes = Math.floor(seconds / 60)
  return minutes < 60 ? `${minutes} min ${seconds % 60} s` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`
}

/** A size in bytes, in words. */
export function amount(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`
  if (bytes < 1024 ** 2) return `${(bytes / 1024).toFixed(1)} KiB`
  if (bytes < 1024 ** 3) return `${(bytes / 1024 ** 2).toFixed(1)} MiB`
  return `${(bytes / 1024 ** 3).toFixed(1)} GiB`
}

/** A service time as date and time of day in UTC; seconds matter when time is sped up. */
export function moment(at: string | null | undefined): string {
  return at ? `${at.slice(0, 10)} ${at.slice(11, 19)}` : '–'
}

/** Named values in order of their names; yes and no for flags. */
export function listed(values: Record<string, unknown>, between = ' '): string {
  const word = (value: unknown) => (value === true ? 'yes' : value === false ? 'no' : String(value))
  const names = Object.keys(values).sort()
  return names.map((name) => `${name}${between}${word(values[name])}`).join(', ')
}

/** What a rollout brings: of two releases that it compares both, and which was chosen. */
export function brings(rollout: { release: string; second_release?: string | null; chosen?: string | null }): string {
  if (!rollout.second_release) return rollout.release
  const both = `${rollout.release} or ${rollout.second_release.split('/').pop()} by lot`
  return rollout.chosen ? `${both}, then ${rollout.chosen}` : both
}

/** The first line of notes in Markdown, without the marks of a heading. */
export function headline(notes: string): string {
  const line = notes.split('\n').find((one) => one.trim())
  return line ? line.replace(/^[#\s]+/, '').trim() : ''
}

/** A number as it is read at a glance, however large. */
export function grouped(count: number): string {
  return count.toLocaleString('en')
}
