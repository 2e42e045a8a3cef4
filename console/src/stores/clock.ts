import { defineStore } from 'pinia'
import { ref } from 'vue'

/** Service time: as the service said it, going on at the service's scale. */
export const useClock = defineStore('clock', () => {
  const now = ref(new Date())
  const scale = ref(1)
  let said = Date.now()
  let heard = performance.now()

  function learn(at: string, factor: number) {
    said = Date.parse(at)
    heard = performance.now()
    scale.value = factor
    tick()
  }

  function tick() {
    now.value = new Date(said + (performance.now() - heard) * scale.value)
  }

  window.setInterval(tick, 1000)
  return { now, scale, learn }
})
