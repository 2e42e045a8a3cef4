/** Where a brake's evidence stands on a gauge and a line: both are logarithmic, since evidence multiplies. */

const LEAST = 0.1

/** The share (0–1) of the way from 0.1 to what halts, on a logarithmic scale; more than 1 is beyond it. */
export function height(evidence: number, haltsAt: number): number {
  return Math.log(Math.max(LEAST, evidence) / LEAST) / Math.log(haltsAt / LEAST)
}

/** Evidence as it is nice to read. */
export function plain(evidence: number): string {
  if (evidence >= 1000) return 'over 1000'
  return evidence >= 0.1 ? evidence.toFixed(1) : 'under 0.1'
}

/** The points of a line of steps in a box of this size: `top` is the height of what halts. */
export function steps(points: { at: string; evidence: number }[], haltsAt: number, from: string, until: string, width: number, bottom: number, top: number): string {
  const [begin, end] = [Date.parse(from), Date.parse(until)]
  const x = (at: string) => (width * (Date.parse(at) - begin)) / Math.max(1, end - begin)
  const y = (evidence: number) => Math.max(0, bottom - (bottom - top) * height(evidence, haltsAt))
  let last = 1
  let path = `M0 ${y(1).toFixed(1)}`
  for (const point of points) {
    path += `L${x(point.at).toFixed(1)} ${y(last).toFixed(1)}L${x(point.at).toFixed(1)} ${y(point.evidence).toFixed(1)}`
    last = point.evidence
  }
  return `${path}L${width} ${y(last).toFixed(1)}`
}
