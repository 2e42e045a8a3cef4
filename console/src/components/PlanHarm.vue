<script setup lang="ts">
import { computed } from 'vue'

import type { PlanDocument } from '../plan'

/** How many devices the release may hurt. */
const plan = defineModel<PlanDocument>({ required: true })
const harm = computed(() => plan.value.harm ?? null)

function whole(text: string | null): number | null {
  return text === '' || text === null ? null : Number(text)
}
/** Without the most that may be hurt there is no budget at all. */
function put(values: object) {
  const made = { ...(harm.value ?? {}), ...values } as NonNullable<PlanDocument['harm']>
  plan.value = { ...plan.value, harm: made.at_most ? made : null }
}
</script>

<template>
  <h3 class="mt-4">The harm budget bounds how many may be hurt</h3>
  <div class="three">
    <v-text-field type="number" clearable :model-value="harm?.at_most" label="At most so many devices hurt" placeholder="no budget" hide-details @update:model-value="(text) => put({ at_most: whole(text) })" />
    <template v-if="harm">
      <v-text-field v-if="!harm.sure" type="number" step="0.01" :model-value="harm.certainty ?? 0.95" label="With a certainty of (0–1)" hide-details @update:model-value="(text) => put({ certainty: whole(text) })" />
      <v-text-field v-if="!harm.sure" type="number" clearable :model-value="harm.wave_at_most" :placeholder="String(10 * harm.at_most)" label="No wave larger than" hide-details @update:model-value="(text) => put({ wave_at_most: whole(text) })" />
      <v-text-field v-if="!harm.sure" :model-value="harm.cluster_by" label="Fail together by (fact)" placeholder="site" hide-details @update:model-value="(text) => put({ cluster_by: text || null })" />
      <v-text-field v-if="!harm.sure && harm.cluster_by" type="number" :model-value="harm.of_a_cluster ?? 1" label="Of each at a time" hide-details @update:model-value="(text) => put({ of_a_cluster: whole(text) })" />
    </template>
  </div>
  <v-checkbox v-if="harm" :model-value="harm.sure ?? false" label="for sure: whoever is at risk counts as if it were hurt" density="compact" hide-details @update:model-value="(sure) => put({ sure: sure ?? false })" />
</template>

<style scoped>
.three {
  display: grid;
  grid-template-columns: repeat(3, 1fr);
  gap: 8px;
}
</style>
