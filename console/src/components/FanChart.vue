<script setup lang="ts">
import { computed } from 'vue'

import { type Band, type Point } from '../fan'
import { moment } from '../words'
import ChartReader from './ChartReader.vue'

/** What runs of a rehearsal do over time: from the 10 % to the 90 % quantile, the median within, and what came to pass. */
const props = defineProps<{ band: Band[]; course?: Point[]; label: string; colour: string }>()
const WIDTH = 560
const HEIGHT = 110
const begin = computed(() => Math.min(props.band[0]?.at ?? 0, props.course?.[0]?.at ?? Infinity))
const end = computed(() => Math.max(props.band[props.band.length - 1]?.at ?? 0, props.course?.[props.course.length - 1]?.at ?? 0))
const top = computed(() => Math.max(1, ...props.band.map((one) => one.high), ...(props.course ?? []).map((one) => one.value)))
const x = (at: number) => (WIDTH * (at - begin.value)) / Math.max(1, end.value - begin.value)
const y = (value: number) => HEIGHT * (1 - value / top.value) + 2
const line = (points: { at: number; value: number }[]) => points.map((one, n) => `${n ? 'L' : 'M'}${x(one.at).toFixed(1)} ${y(one.value).toFixed(1)}`).join('')
const area = computed(() => {
  const upper = props.band.map((one) => `${x(one.at).toFixed(1)} ${y(one.high).toFixed(1)}`)
  const lower = [...props.band].reverse().map((one) => `${x(one.at).toFixed(1)} ${y(one.low).toFixed(1)}`)
  return `M${[...upper, ...lower].join('L')}Z`
})
const moments = computed(() =>
  props.band.map((one) => {
    const real = props.course?.filter((point) => point.at <= one.at).pop()
    const there = real && (props.course?.[props.course.length - 1]?.at ?? 0) >= one.at ? `; in truth ${real.value}` : ''
    return { share: x(one.at) / WIDTH, words: `${moment(new Date(one.at).toISOString()).slice(5)}: ${Math.round(one.middle)} (${Math.round(one.low)} … ${Math.round(one.high)}) ${props.label}${there}` }
  }),
)
</script>

<template>
  <ChartReader v-if="band.length > 1" :moments="moments" :label="`${label} at a moment`">
    <svg :viewBox="`0 0 ${WIDTH} ${HEIGHT + 18}`" role="img" :aria-label="`${label}: between 10 and 90 % of all runs, and the median`">
      <path :d="area" :fill="colour" opacity="0.22" />
      <path :d="line(band.map((one) => ({ at: one.at, value: one.middle })))" fill="none" :stroke="colour" stroke-width="1.5" stroke-dasharray="4 3" />
      <path v-if="course?.length" :d="line(course)" fill="none" stroke="currentColor" stroke-width="2" data-testid="real-course" />
      <text x="2" y="12">{{ Math.round(top) }}</text>
      <text x="2" :y="HEIGHT + 15">{{ moment(new Date(begin).toISOString()).slice(5) }}</text>
      <text :x="WIDTH - 2" :y="HEIGHT + 15" text-anchor="end">{{ moment(new Date(end).toISOString()).slice(5) }}</text>
    </svg>
  </ChartReader>
</template>

<style scoped>
svg {
  width: 100%;
  height: auto;
}
text {
  font-size: 11px;
  fill: currentColor;
  opacity: 0.7;
}
</style>
