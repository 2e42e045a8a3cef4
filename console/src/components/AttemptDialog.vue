<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told, type Attempt, type TimelineEntry } from '../api/client'
import PartsTable from './PartsTable.vue'
import ReasonDialog from './ReasonDialog.vue'
import StateMark from './StateMark.vue'
import TimelineTable from './TimelineTable.vue'
import { moment } from '../words'

/** One device's passage: its log, its parts, its timeline, and what can be done for it. */
const props = defineProps<{ attempt: Attempt | null; ended: boolean }>()
const emit = defineEmits<{ leave: []; done: [] }>()
const entries = ref<TimelineEntry[]>([])
const word = ref<'call off' | 'retry' | null>(null)

watch(
  () => props.attempt,
  async (attempt) => {
    entries.value = []
    if (!attempt) return
    const params = { path: { attempt_id: attempt.id } }
    entries.value = await told(api.GET('/api/v1/attempts/{attempt_id}/timeline', { params }))
  },
)
// What a part that failed said itself comes first: that is where to look.
const telling = computed(() => entries.value.find((entry) => entry.component && entry.reason && entry.log) ?? entries.value.find((entry) => entry.log))
const log = computed(() => telling.value?.log ?? '')
const before = computed(() => !!props.attempt && ['queued', 'offered', 'downloading', 'staged'].includes(props.attempt.state))
const again = computed(() => !!props.attempt && ['failed', 'reverted', 'silent', 'called-off'].includes(props.attempt.state))
const effect = computed(() =>
  word.value === 'retry' ? 'This device is queued again for one more try.' : 'This device is told to drop the release; it keeps what it runs.',
)

async function act(reason: string) {
  if (!props.attempt) return
  const params = { path: { attempt_id: props.attempt.id } }
  const body = { reason }
  if (word.value === 'retry') await told(api.POST('/api/v1/attempts/{attempt_id}/retry', { params, body }))
  else await told(api.POST('/api/v1/attempts/{attempt_id}/call-off', { params, body }))
  word.value = null
  emit('done')
}
</script>

<template>
  <v-dialog :model-value="attempt !== null" max-width="940" :aria-label="`Timeline of ${attempt?.serial ?? ''}`" @update:model-value="emit('leave')">
    <v-card v-if="attempt" class="panel">
      <div class="row mb-2">
        <h2 class="mb-0">{{ attempt.serial }}</h2>
        <StateMark :state="attempt.state" />
        <span class="quiet">{{ attempt.reason ?? attempt.waiting }}</span>
        <span class="push" />
        <v-btn v-if="!ended && before" size="small" @click="word = 'call off'">call off</v-btn>
        <v-btn v-if="!ended && again" size="small" @click="word = 'retry'">retry</v-btn>
        <v-btn size="small" @click="emit('leave')">Close</v-btn>
      </div>
      <p v-if="attempt.settings || attempt.first_bad_at || attempt.unasked_at || attempt.left_out" class="quiet mb-2">
        <span v-if="attempt.settings">Its settings are {{ attempt.settings === 'kept' ? 'the same as before the switch' : 'other than before the switch' }}. </span>
        <span v-if="attempt.first_bad_at">First went bad {{ moment(attempt.first_bad_at) }}, in try {{ attempt.first_bad_try ?? '?' }}: {{ attempt.first_bad_why }}. </span>
        <span v-if="attempt.unasked_at">It switched without clearance {{ moment(attempt.unasked_at) }}. </span>
        <span v-if="attempt.left_out">The rollout goes on without it. </span>
      </p>
      <PartsTable v-if="attempt.parts?.length" :parts="attempt.parts" class="mb-3" />
      <template v-if="log">
        <h2>{{ telling?.component ? `The log of ${telling.component}` : 'The device\'s log' }}</h2>
        <pre class="mono log mb-3" tabindex="0">{{ log }}</pre>
      </template>
      <TimelineTable :entries="entries" />
    </v-card>
  </v-dialog>
  <ReasonDialog :word="word" :title="`${word} ${attempt?.serial}`" needs-reason :act="act" @leave="word = null">
    <p class="mb-4">{{ effect }}</p>
  </ReasonDialog>
</template>

<style scoped>
.log {
  max-height: 220px;
  overflow: auto;
  padding: 10px 12px;
  border-radius: 6px;
  background: rgba(var(--v-theme-on-surface), 0.06);
  white-space: pre-wrap;
}
</style>
