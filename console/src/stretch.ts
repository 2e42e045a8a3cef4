import { onBeforeUnmount, ref } from 'vue'

import { lately, type Range } from './readings'
import { useClock } from './stores/clock'
import { useFeed } from './stores/feed'

const AGAIN_MS = 5000
const SOONEST_MS = 900

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
  let moved = 0
  function move(pause: number) {
    if (!live.value || document.hidden || performance.now() - moved < pause) return
    moved = performance.now()
    range.value = lately(seconds.value, clock.now.getTime())
    again()
  }
  // As soon as something has come; and where nothing comes, time goes on all the same.
  useFeed().onReadings(() => move(SOONEST_MS))
  const timer = window.setInterval(() => move(AGAIN_MS / 2), AGAIN_MS)
  onBeforeUnmount(() => window.clearInterval(timer))
  return { seconds, live, range, choose, zoom, back }
}
