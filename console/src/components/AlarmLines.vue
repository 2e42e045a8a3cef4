<script setup lang="ts">
import type { Schemas } from '../api/client'

/** Alarms that devices raised: grey where an update explains them, plain where nothing does. */
defineProps<{ alarms: Schemas['AlarmOut'][] }>()
</script>

<template>
  <ul class="alarms">
    <li v-for="alarm in alarms" :key="alarm.id" :class="{ explained: alarm.rollout_id !== null }" data-testid="alarm">
      <span class="quiet">{{ alarm.at.slice(11, 19) }}</span>
      <router-link :to="`/fleet/${alarm.serial}`">{{ alarm.serial }}</router-link>
      <strong>{{ alarm.kind }}</strong>
      <span v-if="alarm.about && alarm.about !== alarm.serial">about {{ alarm.about }}</span>
      <span class="quiet">{{ alarm.detail }}</span>
      <router-link v-if="alarm.rollout_id !== null" :to="`/rollouts/${alarm.rollout_id}`" class="quiet">the update of rollout {{ alarm.rollout_id }}</router-link>
      <span v-else class="open">nothing explains it</span>
    </li>
  </ul>
</template>

<style scoped>
.alarms {
  margin: 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  flex-wrap: wrap;
  gap: 0 10px;
  padding: 3px 0;
}
.explained {
  color: var(--stone);
}
.explained strong {
  font-weight: 400;
}
.open {
  color: var(--honey);
}
</style>
