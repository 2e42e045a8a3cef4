<script setup lang="ts">
import type { Schemas } from '../api/client'

defineProps<{ checks: Schemas['CheckOut'][] }>()
</script>

<template>
  <ul class="checks">
    <li v-for="(check, index) in checks" :key="index" :class="check.verdict">
      <svg width="14" height="14" viewBox="-8 -8 16 16" aria-hidden="true">
        <circle v-if="check.verdict === 'pass'" r="6" />
        <template v-else-if="check.verdict === 'warn'">
          <circle r="5.5" fill="none" stroke="currentColor" stroke-width="1.5" />
          <path d="M0-6.5A6.5 6.5 0 0 1 0 6.5Z" />
        </template>
        <rect v-else x="-6" y="-6" width="12" height="12" />
      </svg>
      <span class="word">{{ check.verdict }}</span>
      <strong>{{ check.name }}</strong>
      <span class="wrap">
        {{ check.detail }}
        <span v-if="check.mend && check.verdict !== 'pass'" class="quiet">{{ check.mend }}</span>
      </span>
    </li>
  </ul>
</template>

<style scoped>
.checks {
  list-style: none;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 16px 52px 104px 1fr;
  gap: 8px;
  align-items: baseline;
  padding: 3px 0;
}
svg {
  fill: currentColor;
  align-self: start;
  margin-top: 4px;
}
.pass svg {
  color: var(--sage-ink);
}
.warn svg {
  color: var(--honey-ink);
}
.refuse svg {
  color: var(--rose);
}
.word {
  opacity: 0.8;
}
</style>
