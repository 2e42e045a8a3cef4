<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { inWords, ORDER, thickness, type PresenceCounts } from '../presence'
import { moment } from '../words'
import ChartReader from './ChartReader.vue'

/** Devices by presence over time, as it was noted then. */
const props = defineProps<{ samples: Schemas['PresenceSample'][]; now: string }>()

const WIDTH = 560
const HEIGHT = 90
// From the bottom: those that are there carry the others.
const COLOURS: Record<string, string> = { online: 'var(--sage)', late: 'var(--honey)', offline: 'var(--rose)', 'never-seen': 'var(--stone)' }
const bands = computed(() => {
  const start = Date.parse(props.samples[0]?.at ?? props.now)
  const length = Math.max(1, Date.parse(props.now) - start)
  const most = Math.max(1, ...props.samples.map((sample) => Object.values(sample.counts).reduce((all, one) => all + one, 0)))
  const x = (at: string) => ((Date.parse(at) - start) / length) * WIDTH
  const thick = props.samples.map((sample) => thickness(sample.counts as PresenceCounts, most, HEIGHT))
  const y = (index: number, ranks: number) => HEIGHT - (thick[index] ?? []).slice(0, ranks).reduce((all, one) => all + one, 0)
  return ORDER.map((name, rank) => {
    const top: string[] = []
    const bottom: string[] = []
    props.samples.forEach((sample, index) => {
      const [from, to] = [x(sample.at), x(props.samples[index + 1]?.at ?? props.now)]
      const [low, high] = [y(index, rank), y(index, rank + 1)]
      // A sample holds until the next: steps, not slopes that nobody saw.
      top.push(`${from} ${high} L ${to} ${high}`)
      bottom.unshift(`${to} ${low} L ${from} ${low}`)
    })
    const now = (props.samples.at(-1)?.counts as Record<string, number> | undefined)?.[name] ?? 0
    return { name, now, path: `M ${[...top, ...bottom].join(' L ')} Z` }
  })
})
const ticks = computed(() => {
  const start = Date.parse(props.samples[0]?.at ?? props.now)
  const step = (Date.parse(props.now) - start) / 3
  return [0, 1, 2, 3].map((part) => ({ x: (WIDTH * part) / 3, at: new Date(start + part * step) }))
})

const moments = computed(() => {
  const start = Date.parse(props.samples[0]?.at ?? props.now)
  const length = Math.max(1, Date.parse(props.now) - start)
  return props.samples.map((sample) => ({
    share: (Date.parse(sample.at) - start) / length,
    words: `${moment(sample.at).slice(5, 16)}: ${inWords(sample.counts as PresenceCounts)}`,
  }))
})
const words = computed(() => `Presence over time; now ${bands.value.map((band) => `${band.now} ${band.name}`).join(', ')}.`)
</script>

<template>
  <ChartReader :moments="moments" label="Presence at a moment">
  <svg :viewBox="`0 0 ${WIDTH} ${HEIGHT + 18}`" class="river" role="img" :aria-label="words">
    <path v-for="band in bands" :key="band.name" :d="band.path" :fill="COLOURS[band.name]">
      <title>{{ band.now }} {{ band.name }} now</title>
    </path>
    <text v-for="(tick, index) in ticks" :key="index" :x="tick.x" :y="HEIGHT + 14" :class="{ first: index === 0, last: index === ticks.length - 1 }">
      {{ moment(tick.at.toISOString()).slice(5, 16) }}
    </text>
  </svg>
  </ChartReader>
</template>

<style scoped>
.river {
  width: 100%;
  display: block;
}
text {
  font-size: 11px;
  fill: rgb(var(--v-theme-on-surface));
  opacity: 0.75;
  text-anchor: middle;
}
.first {
  text-anchor: start;
}
.last {
  text-anchor: end;
}
</style>
