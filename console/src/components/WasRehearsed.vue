<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told, type Rollout, type Schemas } from '../api/client'
import RehearsedFault from './RehearsedFault.vue'

/** The rehearsals of a rollout's plan, with what came to pass inside their fans. */
const props = defineProps<{ rollout: Rollout; course: Schemas['CoursePoint'][] }>()
const found = ref<Schemas['RehearsalOut'][]>([])
watch(
  () => props.rollout.id,
  async (id) => (found.value = await told(api.GET('/api/v1/rollouts/{rollout_id}/rehearsals', { params: { path: { rollout_id: id } } }))),
  { immediate: true },
)
const newest = computed(() => found.value[0] ?? null)
/** A plan without a start of its own begins when it is started: so much later than it was rehearsed. */
const moved = computed(() => (newest.value && props.rollout.started_at && !props.rollout.plan.calendar?.start ? Date.parse(props.rollout.started_at) - Date.parse(newest.value.asked_at) : 0))
</script>

<template>
  <v-card v-if="newest?.result" class="panel mb-5" data-testid="was-rehearsed">
    <h2>As it was rehearsed</h2>
    <p class="quiet mb-2">Rehearsal {{ newest.id }} by {{ newest.asked_by }}, {{ newest.runs }} runs. The dark line is what came to pass.</p>
    <div class="faults">
      <RehearsedFault v-for="fault in newest.result.faults" :key="fault.fault" :fault="fault" :course="course" :moved="moved" />
    </div>
  </v-card>
</template>

<style scoped>
.faults {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(420px, 1fr));
  gap: 16px;
}
</style>
