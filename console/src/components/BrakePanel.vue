<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { height, plain, steps } from '../evidence'
import { moment } from '../words'
import ChartReader from './ChartReader.vue'

/** What both brakes show: a gauge up to what halts, how it came there, where the evidence is, and the control. */
const props = defineProps<{ brakes: Schemas['BrakesOut']; until: string }>()
const WIDTH = 560
const BOTTOM = 92
const TOP = 16

const shown = computed(() => props.brakes.brakes.filter((brake) => brake.seen))
function colour(brake: Schemas['BrakeOut']): string {
  return brake.halts ? 'var(--rose)' : brake.near ? 'var(--honey)' : 'var(--sage)'
}
function line(brake: Schemas['BrakeOut']): string {
  return steps(brake.history, brake.halts_at, props.brakes.round_at ?? props.until, props.until, WIDTH, BOTTOM, TOP)
}
function moments(brake: Schemas['BrakeOut']) {
  const from = Date.parse(props.brakes.round_at ?? props.until)
  const length = Math.max(1, Date.parse(props.until) - from)
  return brake.history.map((point) => ({
    share: Math.max(0, (Date.parse(point.at) - from) / length),
    words: `${moment(point.at).slice(5)}: evidence ${plain(point.evidence)} of ${brake.halts_at}`,
  }))
}
function percent(bad: number, seen: number): string {
  return seen ? `${((100 * bad) / seen).toFixed(1)} %` : '–'
}
/** To the plot that tells what the update did to a reading. */
function goThere() {
  document.getElementById('before-and-after')?.scrollIntoView({ behavior: 'smooth' })
}
</script>

<template>
  <p v-if="!shown.length" class="quiet">Nobody has been told yet: there is nothing to go by.</p>
  <section v-for="brake in shown" :key="brake.kind" class="brake" :data-testid="`brake-${brake.kind}`">
    <div class="row">
      <strong>{{ brake.kind }}</strong>
      <span class="push"><span class="number" :style="{ color: colour(brake) }">{{ plain(brake.evidence) }}</span> of {{ brake.halts_at }}</span>
    </div>
    <div
      class="gauge"
      role="meter"
      :aria-label="`Evidence of the ${brake.kind} brake`"
      aria-valuemin="0"
      :aria-valuemax="brake.halts_at"
      :aria-valuenow="Math.min(brake.evidence, brake.halts_at)"
      :aria-valuetext="brake.words"
    >
      <span :style="{ width: `${Math.min(100, 100 * height(brake.evidence, brake.halts_at))}%`, background: colour(brake) }" />
      <i :style="{ left: `${100 * height(brake.halts_at / 4, brake.halts_at)}%` }" title="From here on no ring opens by itself" />
    </div>
    <p>
      {{ brake.bad }} bad of {{ brake.seen }} {{ brake.kind === 'firmware' ? 'exposed' : 'offered' }} ({{ percent(brake.bad, brake.seen) }}, limit {{ 100 * brake.limit }} %)<template v-if="brake.strongest">;
        <strong>{{ brake.strongest }}</strong> shows most of all</template>
    </p>
    <ChartReader v-if="brake.bad" :moments="moments(brake)" :label="`Evidence of the ${brake.kind} brake at a moment`">
    <svg :viewBox="`0 0 ${WIDTH} ${BOTTOM + 4}`" role="img" :aria-label="`Evidence over time, now ${plain(brake.evidence)}; it halts at ${brake.halts_at}`">
      <line x1="0" :x2="WIDTH" :y1="TOP" :y2="TOP" class="halts" />
      <text x="2" :y="TOP - 4">halts at {{ brake.halts_at }}</text>
      <path :d="line(brake)" fill="none" :stroke="colour(brake)" stroke-width="2.5" />
    </svg>
    </ChartReader>
    <details v-if="brake.bad">
      <summary class="quiet">where the evidence is</summary>
      <table>
        <thead>
          <tr><th scope="col">in</th><th scope="col" class="count">bad</th><th scope="col" class="count">of</th><th scope="col" class="count">evidence</th><th scope="col" class="count">weight</th></tr>
        </thead>
        <tbody>
          <tr v-for="stream in brake.streams" :key="stream.name">
            <td>{{ stream.name }}</td>
            <td class="count">{{ stream.bad }}</td>
            <td class="count">{{ stream.seen }}</td>
            <td class="count">{{ plain(stream.evidence) }}</td>
            <td class="count">{{ (100 * stream.weight).toFixed(1) }} %</td>
          </tr>
        </tbody>
      </table>
    </details>
  </section>
  <p v-if="brakes.control" class="quiet" data-testid="control">{{ brakes.control.words }}</p>
  <p v-for="reading in brakes.control?.readings ?? []" :key="reading.name" class="quiet">
    <router-link :to="{ query: { signal: reading.name }, hash: '#before-and-after' }" @click="goThere">{{ reading.name }}</router-link>: {{ reading.updated ?? '–' }} on {{ reading.updated_devices }} updated devices, {{ reading.others ?? '–' }} on {{ reading.other_devices }} others (medians)
  </p>
  <p v-if="brakes.round > 1" class="quiet">Round {{ brakes.round }}: only devices first exposed since the resume count.</p>
</template>

<style scoped>
.brake {
  margin-bottom: 14px;
}
.gauge {
  position: relative;
  height: 10px;
  margin: 4px 0 8px;
  border-radius: 5px;
  background: rgba(var(--v-theme-on-surface), 0.1);
}
.gauge span {
  display: block;
  height: 100%;
  border-radius: 5px;
}
.gauge i {
  position: absolute;
  top: -2px;
  width: 2px;
  height: 14px;
  background: rgba(var(--v-theme-on-surface), 0.5);
}
svg {
  width: 100%;
  height: auto;
}
.halts {
  stroke: var(--rose);
  stroke-dasharray: 4 3;
}
text {
  font-size: 11px;
  fill: rgba(var(--v-theme-on-surface), 0.72);
}
summary {
  cursor: pointer;
}
table {
  border-collapse: collapse;
  font-size: 13px;
}
th,
td {
  padding: 2px 14px 2px 0;
  text-align: left;
}
.count {
  text-align: right;
}
</style>
