import createClient from 'openapi-fetch'

import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Rollout = Schemas['RolloutOut']
export type Attempt = Schemas['AttemptOut']
export type Device = Schemas['DeviceOut']
export type DeviceDetail = Schemas['DeviceDetail']
export type Release = Schemas['ReleaseOut']
export type Overview = Schemas['Overview']
export type JournalEntry = Schemas['JournalEntry']
export type TimelineEntry = Schemas['TimelineEntry']
export type FeedEvent = {
  id: number
  at: string
  kind: string
  rollout_id: number | null
  device_id: number | null
  attempt_id: number | null
  data: Record<string, unknown>
}

// The header shows that a call comes from this page: another site can make a browser send the cookie, but not it.
export const api = createClient<paths>({ headers: { 'Herald-Console': '1' } })

/** The data of an answer, or an error that says in words what the service said. */
export async function told<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer
  try {
    answer = await call
  } catch {
    throw new Error('The service cannot be reached. Does it still run?')
  }
  if (answer.error !== undefined || answer.data === undefined) {
    if (answer.response.status === 401 && location.pathname !== '/sign-in') {
      location.assign(`/sign-in?to=${encodeURIComponent(location.pathname).replaceAll('%2F', '/')}`)
    }
    const problem = answer.error as { detail?: string } | undefined
    throw new Error(problem?.detail ?? `The service answered ${answer.response.status}.`)
  }
  return answer.data
}

/** As `told`, of a call that answers nothing. */
export async function done(call: Promise<{ error?: unknown; response: Response }>): Promise<void> {
  const answer = await call.catch(() => ({ error: { detail: 'The service cannot be reached. Does it still run?' } }))
  if (answer.error !== undefined) throw new Error((answer.error as { detail?: string }).detail ?? 'The service refused it.')
}
