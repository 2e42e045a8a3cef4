<script setup lang="ts">
import { computed, ref, watch } from 'vue'

/** A moment of a chart: where it stands (0 to 1 of the width) and what is there, in words. */
export type Moment = { share: number; words: string }

/** Lets pointer and keyboard ask a chart what stood at a moment: time and counts, shown below and read aloud. */
const props = defineProps<{ moments: Moment[]; label: string }>()
const chosen = ref<number | null>(null)
const plot = ref<HTMLElement | null>(null)
const last = computed(() => props.moments.length - 1)
const at = computed(() => props.moments[Math.min(chosen.value ?? last.value, last.value)])

watch(last, (now) => {
  if (chosen.value !== null && chosen.value > now) chosen.value = null
})

function point(event: PointerEvent) {
  const box = plot.value?.getBoundingClientRect()
  if (!box || !box.width) return
  const share = (event.clientX - box.left) / box.width
  // What stood at a moment is what was noted last before it.
  let found = 0
  props.moments.forEach((moment, index) => {
    if (moment.share <= share) found = index
  })
  chosen.value = found
}

const STEPS: Record<string, (now: number) => number> = {
  ArrowLeft: (now) => now - 1,
  ArrowDown: (now) => now - 1,
  ArrowRight: (now) => now + 1,
  ArrowUp: (now) => now + 1,
  PageDown: (now) => now - 10,
  PageUp: (now) => now + 10,
  Home: () => 0,
  End: () => last.value,
}

function key(event: KeyboardEvent) {
  const step = STEPS[event.key]
  if (event.key === 'Escape') chosen.value = null
  else if (step) {
    chosen.value = Math.max(0, Math.min(last.value, step(chosen.value ?? last.value)))
    event.preventDefault()
  }
}
</script>

<template>
  <div class="chart">
    <div ref="plot" class="plot" @pointermove="point" @pointerdown="point" @pointerleave="chosen = null">
      <slot />
      <span v-if="chosen !== null && at" class="hair" :style="{ left: `${at.share * 100}%` }" />
    </div>
    <div
      v-if="at"
      class="reading quiet"
      role="slider"
      tabindex="0"
      :aria-label="label"
      aria-valuemin="0"
      :aria-valuemax="last"
      :aria-valuenow="chosen ?? last"
      :aria-valuetext="at.words"
      @keydown="key"
      @blur="chosen = null"
    >
      {{ at.words }}<span class="hint" aria-hidden="true"> · ← →</span>
    </div>
  </div>
</template>

<style scoped>
.plot {
  position: relative;
}
.hair {
  position: absolute;
  top: 0;
  bottom: 0;
  width: 1px;
  background: rgb(var(--v-theme-on-surface));
  pointer-events: none;
}
.reading {
  margin-top: 4px;
  padding: 2px 6px;
  border-radius: 6px;
  font-size: 12px;
  font-variant-numeric: tabular-nums;
}
.reading:focus-visible {
  outline: 2px solid var(--honey);
}
</style>
