import { onBeforeUnmount, ref } from 'vue'

import { lately, type Range } from './readings'
import { useClock } from './stores/clock'

const AGAIN_MS = 5000

export type Stretch = ReturnType<typeof useStretch>

/** The stretch of time that plots of a page show: it follows the time until somebody looks closer, and goes back the way it
 * came. `again` is called whenever it has moved on. */
export function useStretch(first: number, again: () => void = () => {}) {
  const clock = useClock()
  const seconds = ref(first)
  const live = ref(true)
  const range = ref<Range>(lately(first, clock.now.getTime()))
  const before: Range[] = []

  function choose(chosen: number) {
    seconds.value = chosen
    live.value = true
    before.length = 0
    range.value = lately(chosen, clock.now.getTime())
  }
  function zoom(chosen: Range) {
    before.push(range.value)
    live.value = false
    range.value = chosen
  }
  function back() {
    const former = before.pop()
    if (former) range.value = former
    live.value = !before.length
  }
  const timer = window.setInterval(() => {
    if (!live.value || document.hidden) return
    range.value = lately(seconds.value, clock.now.getTime())
    again()
  }, AGAIN_MS)
  onBeforeUnmount(() => window.clearInterval(timer))
  return { seconds, live, range, choose, zoom, back }
}
