import { onMounted, ref } from 'vue'

/** Runs `load` when the page appears; `failure` says in words what went wrong the last time, if anything did. */
export function useLoading(load: () => Promise<void>) {
  const failure = ref('')
  const loaded = ref(false)

  let running: Promise<void> | null = null
  let next: Promise<void> | null = null

  async function once() {
    try {
      await load()
      failure.value = ''
      loaded.value = true
    } catch (error) {
      failure.value = error instanceof Error ? error.message : String(error)
    }
  }

  /** One load at a time: of two side by side the older might answer last. Whoever asks meanwhile gets a load of its own after. */
  function reload(): Promise<void> {
    if (!running) {
      running = once().finally(() => (running = null))
      return running
    }
    next ??= running.then(() => {
      next = null
      return reload()
    })
    return next
  }

  onMounted(reload)
  return { failure, loaded, reload }
}
