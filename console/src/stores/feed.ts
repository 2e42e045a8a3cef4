import { defineStore } from 'pinia'
import { onScopeDispose, ref } from 'vue'

import type { FeedEvent } from '../api/client'

const KINDS = ['attempt', 'rollout', 'device', 'release', 'admission', 'board', 'keys', 'health', 'log', 'radio'] as const
type Listener = (event: FeedEvent) => void

/** One event stream for all pages. The browser takes it up again by itself and asks for what it missed. */
export const useFeed = defineStore('feed', () => {
  const connected = ref(false)
  const everConnected = ref(false)
  const listeners = new Set<Listener>()
  const arrivals = new Set<() => void>()
  let source: EventSource | null = null

  function open() {
    if (source) return
    source = new EventSource('/api/v1/events?readings=true')
    source.onopen = () => {
      connected.value = everConnected.value = true
    }
    source.onerror = () => {
      connected.value = false
    }
    source.addEventListener('readings', () => {
      for (const listener of arrivals) listener()
    })
    for (const kind of KINDS) {
      source.addEventListener(kind, (message) => {
        const event = JSON.parse((message as MessageEvent<string>).data) as FeedEvent
        for (const listener of listeners) listener(event)
      })
    }
  }

  function close() {
    source?.close()
    source = null
    connected.value = false
  }

  /** Calls `listener` for every event until the component is gone. */
  function listen(listener: Listener) {
    listeners.add(listener)
    onScopeDispose(() => listeners.delete(listener))
  }

  /** Calls `listener`, at most once a second, when readings have come, until the component is gone. */
  function onReadings(listener: () => void) {
    arrivals.add(listener)
    onScopeDispose(() => arrivals.delete(listener))
  }

  return { connected, everConnected, open, close, listen, onReadings }
})

/** Calls `load` soon after an event that concerns it, and once more if others came meanwhile. */
export function reloadOn(concerns: (event: FeedEvent) => boolean, load: () => Promise<void>, pause = 250) {
  let waiting = 0
  useFeed().listen((event) => {
    if (waiting || !concerns(event)) return
    waiting = window.setTimeout(async () => {
      waiting = 0
      await load()
    }, pause)
  })
  onScopeDispose(() => window.clearTimeout(waiting))
}
