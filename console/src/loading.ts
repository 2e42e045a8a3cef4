import { onMounted, ref } from 'vue'

/** Runs `load` when the page appears; `failure` says in words what went wrong the last time, if anything did. */
export function useLoading(load: () => Promise<void>) {
  const failure = ref('')
  const loaded = ref(false)

  async function reload() {
    try {
      await load()
      failure.value = ''
      loaded.value = true
    } catch (error) {
      failure.value = error instanceof Error ? error.message : String(error)
    }
  }

  onMounted(reload)
  return { failure, loaded, reload }
}
