<script setup lang="ts">
import type { Release } from '../api/client'

defineProps<{ release: Pick<Release, 'state' | 'baseline' | 'cleaned_at'> }>()
</script>

<template>
  <span class="state text-no-wrap">
    <svg width="13" height="13" viewBox="-8 -8 16 16" aria-hidden="true" :class="release.state">
      <circle v-if="release.state === 'published'" r="6.5" />
      <circle v-else-if="release.state === 'draft' || release.state === 'scratch'" r="6" :stroke-dasharray="release.state === 'scratch' ? '3 2.5' : undefined" fill="none" stroke="currentColor" stroke-width="2" />
      <path v-else d="M-6 0H6" stroke="currentColor" stroke-width="2.5" />
    </svg>
    {{ release.state }}
  </span>
  <div v-if="release.baseline" class="mark">baseline</div>
  <span v-if="release.cleaned_at" class="quiet">images cleaned away</span>
</template>

<style scoped>
.state {
  display: inline-flex;
  margin-right: 8px;
  align-items: center;
  gap: 6px;
}
svg {
  fill: currentColor;
}
.published {
  color: var(--sage-ink);
}
.draft,
.scratch {
  color: var(--grey-blue-ink);
}
.withdrawn {
  color: var(--stone-ink);
}
.mark {
  width: max-content;
  margin-top: 2px;
  padding: 1px 8px;
  border-radius: 9px;
  background: rgba(217, 154, 43, 0.22);
  font-size: 12px;
  white-space: nowrap;
}
</style>
