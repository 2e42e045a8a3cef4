<script setup lang="ts">
import { computed } from 'vue'

import type { PlanDocument } from '../plan'

/** Two releases to compare by lot, before one of them is chosen for the last ring. */
const props = defineProps<{ releases: string[] }>()
const plan = defineModel<PlanDocument>({ required: true })
const second = computed(() => plan.value.arms?.[1])
const others = computed(() => {
  const [board, line] = plan.value.release.split('/')
  return props.releases.filter((one) => one !== plan.value.release && one.startsWith(`${board}/${line}/`))
})

function compare(on: boolean | null) {
  const name = (release: string) => release.split('/')[2] ?? release
  const other = others.value[0] ?? ''
  plan.value = {
    ...plan.value,
    arms: on ? [{ name: name(plan.value.release), release: plan.value.release }, { name: name(other) || 'the other', release: other }] : [],
  }
}
function set(position: number, change: object) {
  plan.value = { ...plan.value, arms: plan.value.arms?.map((arm, n) => (n === position ? { ...arm, ...change } : arm)) }
}
</script>

<template>
  <v-checkbox :model-value="!!plan.arms?.length" label="compare two releases by lot in every ring but the last" density="compact" hide-details @update:model-value="compare" />
  <div v-if="plan.arms?.length === 2" class="arms">
    <v-text-field :model-value="plan.arms[0]?.name" label="The release above, called" hide-details @update:model-value="(name) => set(0, { name, release: plan.release })" />
    <v-text-field :model-value="second?.name" label="The other, called" hide-details @update:model-value="(name) => set(1, { name })" />
    <v-combobox :model-value="second?.release" :items="others" label="Other release" hide-details @update:model-value="(release) => set(1, { release })" />
    <v-text-field type="number" step="0.1" :model-value="second?.share ?? 0.5" label="Share that gets the other" hide-details @update:model-value="(text) => set(1, { share: Number(text) })" />
  </div>
</template>

<style scoped>
.arms {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
  margin-top: 8px;
}
</style>
