<script setup lang="ts">
import { computed } from 'vue'

import { COLOURS, type State } from '../states'

const props = withDefaults(defineProps<{ state: string; size?: number; words?: boolean }>(), { size: 14, words: true })
const colour = computed(() => COLOURS[props.state as State] ?? 'var(--stone)')
const turning = computed(() => ['cleared', 'installing', 'proving'].includes(props.state))
</script>

<template>
  <span class="state">
    <svg :width="size" :height="size" viewBox="-8 -8 16 16" :class="{ turning }" aria-hidden="true">
      <g :stroke="colour" :fill="colour" stroke-width="2">
        <circle v-if="state === 'queued'" r="6" fill="none" />
        <template v-else-if="state === 'offered'">
          <circle r="6" fill="none" stroke-width="1" />
          <path d="M0 0V-6.5A6.5 6.5 0 0 1 6.5 0Z" stroke="none" />
        </template>
        <template v-else-if="state === 'downloading'">
          <circle r="6" fill="none" stroke-width="1" />
          <path d="M0-6.5A6.5 6.5 0 0 1 0 6.5Z" stroke="none" />
        </template>
        <template v-else-if="state === 'staged'">
          <circle r="6" fill="none" stroke-width="1" />
          <path d="M0 0V-6.5A6.5 6.5 0 1 1-6.5 0Z" stroke="none" />
        </template>
        <path v-else-if="turning" d="M2-6.7A7 7 0 1 1-2-6.7L-1-3.2A3.4 3.4 0 1 0 1-3.2Z" stroke="none" />
        <circle v-else-if="state === 'confirmed'" r="6.5" stroke="none" />
        <rect v-else-if="state === 'failed'" x="-6" y="-6" width="12" height="12" stroke="none" />
        <path v-else-if="state === 'reverted'" d="M-6-6H6V6H-6V3L-1 0L-6-3Z" stroke="none" />
        <rect v-else-if="state === 'silent'" x="-5" y="-5" width="10" height="10" fill="none" />
        <template v-else-if="state === 'relapsed'">
          <rect x="-5.5" y="-5.5" width="11" height="11" fill="none" stroke-width="1.5" />
          <circle r="2.4" stroke="none" />
        </template>
        <path v-else-if="state === 'rolled-back'" d="M6 0H-4M0-4L-5 0L0 4" fill="none" />
        <path v-else-if="state === 'passed-over'" d="M-4 6L4-6" fill="none" />
        <path v-else d="M-6 0H6" fill="none" />
      </g>
    </svg>
    <span v-if="words">{{ state }}</span>
    <span v-else class="hidden">{{ state }}</span>
  </span>
</template>

<style scoped>
.state {
  display: inline-flex;
  align-items: center;
  gap: 6px;
  white-space: nowrap;
}
.hidden {
  position: absolute;
  clip-path: inset(50%);
  width: 1px;
  height: 1px;
  overflow: hidden;
}
.turning {
  animation: turn 1.8s linear infinite;
}
@keyframes turn {
  to {
    transform: rotate(1turn);
  }
}
@media (prefers-reduced-motion: reduce) {
  .turning {
    animation: none;
  }
}
</style>
