import type { Release, Schemas } from './api/client'

export type Refusal = { detail: string; checks: Schemas['CheckOut'][] }
const RELEASE_FILE = 'application/suit-envelope+cose'

/** Sends a release file with a word on how far it is; `fetch` cannot tell. Settles with the release, or with why not. */
export function sendRelease(file: File, draft: boolean, progress: (share: number) => void): Promise<Release> {
  return send<Release>(`/api/v1/releases${draft ? '?draft=true' : ''}`, file, progress)
}

/** Brings a sealed build to a bench device. Settles with the rollout of one, or with why not. */
export function installBuild(serial: string, file: File): Promise<Schemas['RolloutOut']> {
  return send(`/api/v1/devices/${encodeURIComponent(serial)}/bench_install`, file, () => {})
}

function send<Answer>(path: string, file: File, progress: (share: number) => void): Promise<Answer> {
  return new Promise((done, failed) => {
    const request = new XMLHttpRequest()
    request.open('POST', path)
    request.setRequestHeader('Content-Type', RELEASE_FILE)
    request.setRequestHeader('Herald-Console', '1')
    request.upload.onprogress = (event) => progress(event.total ? event.loaded / event.total : 0)
    request.onerror = () => failed({ detail: 'The connection broke off. Nothing was kept; send it again.', checks: [] })
    request.onload = () => {
      try {
        const body = JSON.parse(request.responseText)
        if (request.status < 300) done(body)
        else failed({ detail: body.detail, checks: body.checks ?? [] })
      } catch {
        failed({ detail: `The service answered ${request.status}.`, checks: [] })
      }
    }
    request.send(file)
  })
}

/** What a dropped file is, by how it begins. */
export async function kindOf(file: File): Promise<'release file' | 'ELF' | 'Intel HEX' | 'Motorola S-record' | 'raw binary'> {
  const head = new Uint8Array(await file.slice(0, 16).arrayBuffer())
  if (head[0] === 0xd8 && head[1] === 0x6b) return 'release file'
  const text = String.fromCharCode(...head)
  if (text.startsWith('\x7fELF')) return 'ELF'
  if (/^\s*:[0-9A-Fa-f]{8}/.test(text)) return 'Intel HEX'
  if (/^\s*S[0-9][0-9A-Fa-f]{4}/.test(text)) return 'Motorola S-record'
  return 'raw binary'
}

/** A file name as a shell takes it. */
export function quoted(name: string): string {
  return /^[\w./-]+$/.test(name) ? name : `'${name.replaceAll("'", "'\\''")}'`
}
