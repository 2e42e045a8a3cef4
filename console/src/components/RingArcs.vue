<script setup lang="ts">
import { computed } from 'vue'

import { COLOURS, shares, total, type Counts } from '../states'

const props = defineProps<{ rings: { position: number; name: string; state: string; states: Counts }[] }>()

const SWEEP = 1.6 * Math.PI
const START = Math.PI / 2 + (2 * Math.PI - SWEEP) / 2
const INNER = 66
const STEP = 24

function point(radius: number, share: number): string {
  const angle = START + share * SWEEP
  return `${(radius * Math.cos(angle)).toFixed(2)} ${(radius * Math.sin(angle)).toFixed(2)}`
}

function arc(radius: number, from: number, to: number): string {
  const large = (to - from) * SWEEP > Math.PI ? 1 : 0
  return `M${point(radius, from)}A${radius} ${radius} 0 ${large} 1 ${point(radius, to)}`
}

const drawn = computed(() =>
  props.rings.map((ring) => {
    const radius = INNER + ring.position * STEP
    const parts = shares(ring.states)
    return {
      ...ring,
      ground: arc(radius, 0, 1),
      parts: parts.map((part) => ({ ...part, path: arc(radius, part.from, part.to) })),
      count: total(ring.states),
    }
  }),
)
const size = computed(() => INNER + props.rings.length * STEP + 6)
const done = computed(() => props.rings.reduce((sum, ring) => sum + (ring.states.confirmed ?? 0), 0))
const all = computed(() => props.rings.reduce((sum, ring) => sum + total(ring.states), 0))
const words = computed(() => drawn.value.map((r) => `ring ${r.name}, ${r.state}, ${r.states.confirmed ?? 0} of ${r.count} confirmed`).join('; '))
</script>

<template>
  <svg :viewBox="`${-size} ${-size} ${2 * size} ${2 * size - 16}`" class="arcs" role="img" :aria-label="words">
    <g v-for="ring in drawn" :key="ring.position" fill="none" stroke-width="16">
      <path :d="ring.ground" class="ground" />
      <path v-for="part in ring.parts" :key="part.state" :d="part.path" :stroke="COLOURS[part.state]">
        <title>{{ ring.name }}: {{ part.state }} {{ part.count }}</title>
      </path>
    </g>
    <text y="4" class="big" :style="{ fontSize: `${size / 4.2}px` }">{{ done }}</text>
    <text :y="size / 5.5" class="small" :style="{ fontSize: `${size / 9.5}px` }">of {{ all }}</text>
  </svg>
</template>

<style scoped>
.arcs {
  width: 100%;
  max-width: 260px;
}
.ground {
  stroke: rgba(var(--v-theme-on-surface), 0.1);
}
text {
  text-anchor: middle;
  fill: rgb(var(--v-theme-on-surface));
}
.big {
  font-size: 30px;
  font-weight: 600;
}
.small {
  font-size: 11px;
  opacity: 0.75;
}
</style>
