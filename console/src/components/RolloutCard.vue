<script setup lang="ts">
import type { Rollout } from '../api/client'
import { total, type Counts } from '../states'
import { brings, moment } from '../words'
import RolloutState from './RolloutState.vue'
import StateBar from './StateBar.vue'

defineProps<{ rollout: Rollout }>()
</script>

<template>
  <v-card class="panel" :to="`/rollouts/${rollout.id}`">
    <div class="row mb-2">
      <strong>{{ rollout.name }}</strong>
      <span class="quiet">{{ brings(rollout) }}</span>
      <RolloutState :rollout="rollout" class="push" />
    </div>
    <StateBar :counts="rollout.states as Counts" />
    <div class="row quiet mt-2">
      <span>{{ rollout.states.confirmed ?? 0 }} of {{ total(rollout.states as Counts) }} confirmed</span>
      <span v-if="!rollout.ended_at">{{ rollout.at_risk }} at risk now</span>
      <span v-else>ended {{ moment(rollout.ended_at).slice(0, 16) }}</span>
      <span v-for="(count, reason) in rollout.harm" :key="reason" class="wrong">{{ count }} {{ reason }}</span>
    </div>
  </v-card>
</template>

<style scoped>
.wrong {
  color: var(--rose);
}
</style>
