<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { COLOURS, STATES, type Counts } from '../states'
import { moment } from '../words'
import ChartReader from './ChartReader.vue'

/** States over time as stacked areas: steps, not slopes, since between two moments nothing moved. */
const props = defineProps<{ points: Schemas['CoursePoint'][]; rings: { name: string; opened_at: string | null }[] }>()
const WIDTH = 560
const HEIGHT = 130

const begin = computed(() => Date.parse(props.points[0]?.at ?? ''))
const length = computed(() => Math.max(1, Date.parse(props.points[props.points.length - 1]?.at ?? '') - begin.value))
const order = computed(() => STATES.filter((state) => props.points.some((point) => (point.states as Counts)[state])))
const sums = computed(() =>
  props.points.map((point) => {
    let sum = 0
    return [0, ...order.value.map((state) => (sum += (point.states as Counts)[state] ?? 0))]
  }),
)
const top = computed(() => Math.max(1, ...sums.value.map((row) => row[row.length - 1] ?? 0)))

function x(at: string): number {
  return (WIDTH * (Date.parse(at) - begin.value)) / length.value
}
function y(count: number): number {
  return HEIGHT * (1 - count / top.value)
}
const areas = computed(() =>
  order.value.map((state, k) => {
    const upper: string[] = []
    const lower: string[] = []
    props.points.forEach((point, n) => {
      const next = props.points[n + 1]
      const [left, right] = [x(point.at), next ? x(next.at) : WIDTH]
      const row = sums.value[n] ?? []
      upper.push(`${left.toFixed(1)} ${y(row[k + 1] ?? 0).toFixed(1)}`, `${right.toFixed(1)} ${y(row[k + 1] ?? 0).toFixed(1)}`)
      lower.unshift(`${right.toFixed(1)} ${y(row[k] ?? 0).toFixed(1)}`, `${left.toFixed(1)} ${y(row[k] ?? 0).toFixed(1)}`)
    })
    return { state, path: `M${[...upper, ...lower].join('L')}Z` }
  }),
)
const marks = computed(() =>
  props.rings.filter((ring) => ring.opened_at).map((ring) => ({ name: ring.name, x: Math.min(WIDTH - 1, Math.max(0, x(ring.opened_at ?? ''))) })),
)
const moments = computed(() =>
  props.points.map((point) => ({
    share: x(point.at) / WIDTH,
    words: `${moment(point.at).slice(5)}: ${order.value.filter((state) => (point.states as Counts)[state]).map((state) => `${(point.states as Counts)[state]} ${state}`).join(', ') || 'nobody yet'}`,
  })),
)
const words = computed(() => {
  const last = props.points[props.points.length - 1]
  return last ? order.value.map((state) => `${state} ${(last.states as Counts)[state] ?? 0}`).join(', ') : 'nothing yet'
})
</script>

<template>
  <ChartReader v-if="points.length > 1" :moments="moments" label="States at a moment">
  <svg :viewBox="`0 0 ${WIDTH} ${HEIGHT + 16}`" role="img" :aria-label="`States over time; now ${words}`">
    <path v-for="area in areas" :key="area.state" :d="area.path" :fill="COLOURS[area.state]">
      <title>{{ area.state }}</title>
    </path>
    <g v-for="mark in marks" :key="mark.name" class="mark">
      <line :x1="mark.x" :x2="mark.x" y1="0" :y2="HEIGHT" />
      <text :x="Math.min(mark.x + 3, WIDTH - 40)" :y="HEIGHT + 12">{{ mark.name }}</text>
    </g>
  </svg>
  </ChartReader>
  <p v-else class="quiet">Nothing has moved yet.</p>
</template>

<style scoped>
svg {
  width: 100%;
  height: auto;
}
line {
  stroke: rgb(var(--v-theme-on-surface));
  stroke-dasharray: 2 3;
  stroke-width: 1;
}
text {
  font-size: 10px;
  fill: rgba(var(--v-theme-on-surface), 0.72);
}
</style>
