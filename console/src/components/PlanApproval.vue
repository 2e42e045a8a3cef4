<script setup lang="ts">
import { computed } from 'vue'

import type { PlanDocument } from '../plan'

/** Which rings another person must approve of, and which news from outside hold the rollout. */
const plan = defineModel<PlanDocument>({ required: true })
const approval = computed(() => plan.value.approval ?? null)
const names = computed(() => ['all', ...(plan.value.rings ?? []).map((ring) => ring.name).filter((name) => name !== 'all')])

/** What asks of no ring is no approval at all. */
function put(values: object) {
  const made = { ...(approval.value ?? {}), ...values } as NonNullable<PlanDocument['approval']>
  plan.value = { ...plan.value, approval: made.rings?.length || made.share_above != null ? made : null }
}
</script>

<template>
  <h3 class="mt-4">People have their say</h3>
  <div class="three">
    <v-select :model-value="approval?.rings ?? []" :items="names" label="Another person approves of rings" multiple hide-details @update:model-value="(rings) => put({ rings })" />
    <v-text-field type="number" step="0.05" clearable :model-value="approval?.share_above" label="And of those above a share (0–1)" hide-details @update:model-value="(text: string | null) => put({ share_above: text === '' || text === null ? null : Number(text) })" />
    <v-select v-if="approval" :model-value="approval.by ?? 'operator'" :items="['operator', 'publisher', 'admin']" label="With the role" hide-details @update:model-value="(by) => put({ by })" />
    <v-combobox :model-value="plan.evidence?.hold_on ?? []" :items="['support-call', 'alarm']" label="Held at once on news of kind" multiple hide-details @update:model-value="(hold_on) => (plan = { ...plan, evidence: { hold_on } })" />
  </div>
  <v-checkbox v-if="approval" :model-value="approval.not_the_starter ?? true" label="nobody who started it, wrote its plan or published its release" density="compact" hide-details @update:model-value="(on) => put({ not_the_starter: on ?? true })" />
</template>

<style scoped>
.three {
  display: grid;
  grid-template-columns: repeat(3, 1fr);
  gap: 8px;
}
</style>
