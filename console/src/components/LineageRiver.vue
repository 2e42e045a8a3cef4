<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { layOut } from '../river'
import { moment } from '../words'
import ChartReader from './ChartReader.vue'

const props = defineProps<{ lineage: Schemas['LineageOut']; baseline: string | null }>()

const WIDTH = 1100
const HEIGHT = 190
const LANE = 15
const HOURS: Record<string, number> = { '3 h': 3, '1 d': 24, '1 w': 7 * 24, '30 d': 30 * 24 }
const span = ref('all')
const since = computed(() => Date.parse(props.lineage.now) - (HOURS[span.value] ?? Infinity) * 3_600_000)
const river = computed(() => layOut(props.lineage, WIDTH, HEIGHT, since.value))
const top = computed(() => 14 + LANE * Math.max(1, river.value.lanes))
const words = computed(() => {
  const now = river.value.bands.filter((band) => band.now).map((band) => `${band.now} run ${band.version}`)
  return `Versions of ${props.lineage.line} over time; now ${now.join(', ') || 'no device is there'}.`
})

function shade(version: string, rank: number): string {
  if (version.includes(' ')) return 'var(--stone)'
  const first = props.lineage.versions.findIndex((one) => !one.includes(' '))
  const known = Math.max(1, props.lineage.versions.length - 1 - first)
  // Older water is paler: the newest version carries the full colour.
  const strength = 34 + (66 * (rank - first)) / known
  return `color-mix(in srgb, var(--slate) ${strength.toFixed(0)}%, rgb(var(--v-theme-surface)))`
}
</script>

<template>
  <div class="row mb-1">
    <strong>{{ lineage.line }} on {{ lineage.board }}</strong>
    <span class="quiet">devices by version over time (service time, UTC)</span>
    <v-btn-toggle v-model="span" mandatory density="compact" class="push" aria-label="How far back">
      <v-btn v-for="name in [...Object.keys(HOURS), 'all']" :key="name" :value="name" size="small">{{ name }}</v-btn>
    </v-btn-toggle>
  </div>
  <ChartReader :moments="river.moments" :label="`Versions of ${lineage.line} at a moment`">
  <svg :viewBox="`0 0 ${WIDTH} ${HEIGHT + top + 30}`" class="river" role="group" :aria-label="words">
    <g :transform="`translate(0 ${top})`">
      <path v-for="(band, rank) in river.bands" :key="band.version" :d="band.path" :fill="shade(band.version, rank)" class="band">
        <title>{{ band.version }}: {{ band.now }} devices now</title>
      </path>
      <template v-for="band in river.bands" :key="band.version">
        <text v-if="band.label" :x="band.label.x" :y="band.label.y + 4" class="name">
          {{ band.version }}{{ band.version === baseline ? ' · baseline' : '' }}
        </text>
      </template>
      <g v-for="mark in river.marks" :key="mark.id">
        <rect v-if="mark.end !== null" :x="mark.x" y="-6" :width="Math.max(1, mark.end - mark.x)" height="3" class="bridge" />
        <line :x1="mark.x" :x2="mark.x" :y1="mark.lane === null ? -6 : -9 - LANE * mark.lane" :y2="HEIGHT + 4" class="crossing" />
        <router-link v-if="mark.lane !== null" v-slot="{ href, navigate }" :to="`/rollouts/${mark.id}`" custom>
          <a :href="href" :aria-label="`${mark.label}, rollout ${mark.id}, ${mark.state}`" @click="navigate">
            <text :x="mark.left" :y="-11 - LANE * mark.lane" class="mark">{{ mark.label }}</text>
          </a>
        </router-link>
      </g>
      <g v-for="(tick, index) in river.ticks" :key="index" class="tick">
        <text :x="tick.x" :y="HEIGHT + 22" :class="{ first: index === 0, last: index === river.ticks.length - 1 }">
          {{ moment(tick.at.toISOString()).slice(5, 16) }}
        </text>
      </g>
    </g>
  </svg>
  </ChartReader>
  <p class="quiet note">The marks above are rollouts, by number and version.</p>
</template>

<style scoped>
.river {
  width: 100%;
  display: block;
}
.band {
  stroke: rgb(var(--v-theme-surface));
  stroke-width: 1.5;
}
text {
  font-size: 12px;
  fill: rgb(var(--v-theme-on-surface));
  text-anchor: middle;
}
.name {
  font-weight: 600;
  paint-order: stroke;
  stroke: rgb(var(--v-theme-surface));
  stroke-width: 3px;
  stroke-linejoin: round;
}
.note {
  font-size: 12px;
}
.mark {
  text-anchor: start;
  text-decoration: underline;
}
.last {
  text-anchor: end;
}
.first {
  text-anchor: start;
}
.crossing {
  stroke: var(--honey);
  stroke-width: 1.5;
  stroke-dasharray: 4 3;
}
.bridge {
  fill: var(--honey);
}
.tick text {
  opacity: 0.75;
}
</style>
