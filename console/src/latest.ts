import { ref, type Ref } from 'vue'

import { api, told, type FeedEvent, type Schemas } from './api/client'
import { useFeed } from './stores/feed'

type Kind = 'attempt' | 'rollout' | 'release' | 'admission'

/** The latest events of some kinds, of all or of one rollout: those there were, and those that come. */
export function useLatest(kinds: Kind[], most: number, rolloutId: () => number | undefined = () => undefined): { latest: Ref<FeedEvent[]>; fill: () => Promise<void> } {
  const latest = ref<FeedEvent[]>([])
  useFeed().listen((event) => {
    // Who is narrowed to some devices hears that something happened, not to whom.
    if (!Object.keys(event.data).length) return
    const concerns = rolloutId() === undefined || event.rollout_id === rolloutId()
    if (concerns && kinds.includes(event.kind as Kind) && event.data.moved !== false) merge([event])
  })
  function merge(events: FeedEvent[]) {
    const all = new Map([...latest.value, ...events].map((event) => [event.id, event]))
    latest.value = [...all.values()].sort((a, b) => b.id - a.id).slice(0, most)
  }
  async function fill() {
    const query = { kind: kinds, rollout: rolloutId(), limit: most }
    const found: Schemas['Event'][] = await told(api.GET('/api/v1/events/latest', { params: { query } }))
    // What is left of another rollout goes.
    latest.value = latest.value.filter((event) => rolloutId() === undefined || event.rollout_id === rolloutId())
    merge(found as FeedEvent[])
  }
  // What goes wrong here (the session was closed meanwhile, say) the page's own loading tells.
  void fill().catch(() => undefined)
  return { latest, fill }
}
