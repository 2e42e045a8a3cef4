<script setup lang="ts">
import { computed } from 'vue'

import { COLOURS, shares, total, type Counts } from '../states'

const props = defineProps<{ counts: Counts }>()
const parts = computed(() => shares(props.counts))
const words = computed(() => parts.value.map((part) => `${part.state} ${part.count}`).join(', '))
</script>

<template>
  <div class="bar" role="img" :aria-label="words || 'nothing begun'">
    <span
      v-for="part in parts"
      :key="part.state"
      :title="`${part.state} ${part.count} of ${total(counts)}`"
      :style="{ flexGrow: part.count, background: COLOURS[part.state] }"
    />
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  height: 10px;
  border-radius: 5px;
  overflow: hidden;
  gap: 1px;
  background: rgba(var(--v-theme-on-surface), 0.1);
}
.bar span {
  min-width: 4px;
  transition: flex-grow 0.4s;
}
</style>
