<script setup lang="ts">
import { LEAST_HEIGHT, MOST_HEIGHT } from '../chartPage'

/** The lower edge of a row: dragged, or moved by the arrow keys, it makes the row higher or lower. */
const props = defineProps<{ height: number; about: string }>()
const emit = defineEmits<{ change: [number] }>()
const KEY_STEP = 20
let from: { y: number; height: number } | null = null

function to(height: number) {
  emit('change', Math.round(Math.min(MOST_HEIGHT, Math.max(LEAST_HEIGHT, height))))
}
function take(event: PointerEvent) {
  ;(event.target as HTMLElement).setPointerCapture(event.pointerId)
  from = { y: event.clientY, height: props.height }
}
function drag(event: PointerEvent) {
  if (from) to(from.height + event.clientY - from.y)
}
</script>

<template>
  <div
    class="handle"
    role="separator"
    aria-orientation="horizontal"
    tabindex="0"
    :aria-label="`Height of ${about}`"
    :aria-valuenow="height"
    :aria-valuemin="LEAST_HEIGHT"
    :aria-valuemax="MOST_HEIGHT"
    @pointerdown.prevent="take"
    @pointermove="drag"
    @pointerup="from = null"
    @pointercancel="from = null"
    @keydown.up.prevent="to(height - KEY_STEP)"
    @keydown.down.prevent="to(height + KEY_STEP)"
  />
</template>

<style scoped>
.handle {
  height: 9px;
  margin: 2px 0 8px;
  border-top: 1px solid rgb(128 128 128 / 30%);
  cursor: ns-resize;
  touch-action: none;
}
.handle:hover,
.handle:focus-visible {
  border-top: 3px solid rgb(var(--v-theme-primary));
}
</style>
