import { defineStore } from 'pinia'
import { ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useSession } from './session'

export type Style = Schemas['SeriesStyle']

/** Names and colours that whoever is signed in has given to series; nobody else sees them. */
export const useStyles = defineStore('styles', () => {
  const all = ref<Style[]>([])
  const session = useSession()
  let asked = false
  // Who signs in after somebody else has names of their own.
  watch(
    () => session.me?.name,
    () => {
      asked = false
      all.value = []
    },
  )

  async function load() {
    if (asked) return
    asked = true
    all.value = await told(api.GET('/api/v1/series_styles', {}))
  }

  /** How a series looks in a signal: as is said of that signal, or of every signal. */
  function of(signal: string, series: string): { name?: string | null; colour?: string | null } {
    const said = all.value.filter((one) => one.series === series)
    return said.find((one) => one.signal === signal) ?? said.find((one) => !one.signal) ?? {}
  }

  async function set(style: Style) {
    await told(api.PUT('/api/v1/series_styles', { body: style }))
    const others = all.value.filter((one) => one.series !== style.series || (one.signal ?? null) !== (style.signal ?? null))
    all.value = style.name || style.colour ? [...others, style] : others
  }

  return { all, load, of, set }
})
