<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { lasted, moment } from '../words'

/** The sessions in which a rollout reaches its devices on narrow radio; nothing where it has none. */
const props = defineProps<{ rolloutId: number }>()
const sessions = ref<Schemas['RadioSessionOut'][]>([])
const { reload } = useLoading(async () => {
  sessions.value = await told(api.GET('/api/v1/rollouts/{rollout_id}/radio_sessions', { params: { path: { rollout_id: props.rolloutId } } }))
})
reloadOn((event) => event.kind === 'radio' && event.rollout_id === props.rolloutId, reload, 1000)
watch(() => props.rolloutId, reload)

function devices(one: Schemas['RadioSessionOut']): number {
  return Object.values(one.counts).reduce((a, b) => a + b, 0)
}
function told_of(one: Schemas['RadioSessionOut']): string {
  if (one.state === 'setting-up') return `is set up: ${one.counts.ready ?? 0} of ${devices(one)} ready, begins ${moment(one.begins_at).slice(11)}`
  if (one.state === 'sending') return `sends: ${one.sent} of ${one.to_send} fragments`
  const took = one.began_at && one.ended_at ? ` in ${lasted(Date.parse(one.ended_at) - Date.parse(one.began_at))}` : ''
  return `${one.outcome}: ${one.sent} fragments${took}`
}
</script>

<template>
  <v-card v-if="sessions.length" class="panel mb-5" data-testid="radio-sessions">
    <h2>By radio</h2>
    <div v-for="one in sessions" :key="one.id" class="session">
      <router-link :to="`/sessions/${one.id}`"><strong>session {{ one.id }}</strong></router-link>
      <span v-if="one.repair_of !== null" class="quiet">repair of {{ one.repair_of }}</span>
      <span>{{ told_of(one) }}</span>
      <span class="sent"><span :style="{ width: `${(100 * one.sent) / Math.max(1, one.to_send)}%` }" /></span>
      <span><strong>{{ one.complete }}</strong> of {{ devices(one) }} complete</span>
      <span v-if="one.late.length" class="late">{{ one.late.length }} not ready at its start</span>
      <span v-if="one.postponed" class="late">put off {{ one.postponed }} times: nobody was ready</span>
      <span v-if="one.trouble" class="bad">{{ one.trouble }}</span>
    </div>
  </v-card>
</template>

<style scoped>
.session {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  align-items: center;
  padding: 4px 0;
}
.sent {
  flex: 1;
  min-width: 120px;
  height: 8px;
  border-radius: 4px;
  background: rgba(var(--v-theme-on-surface), 0.08);
  overflow: hidden;
}
.sent span {
  display: block;
  height: 100%;
  background: var(--slate);
}
.late {
  color: var(--honey-ink);
}
.bad {
  color: var(--rose);
}
</style>
