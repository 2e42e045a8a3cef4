<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Rollout } from '../api/client'
import ReasonDialog from './ReasonDialog.vue'

type Word = 'go' | 'hold' | 'resume' | 'halt' | 'cancel'
const props = defineProps<{ rollout: Rollout }>()
const emit = defineEmits<{ done: [] }>()

const POSSIBLE: Record<string, Word[]> = {
  scheduled: ['cancel'],
  running: ['hold', 'halt'],
  held: ['resume', 'halt', 'cancel'],
  halted: ['resume', 'cancel'],
}
const asking = computed(() => props.rollout.rings.find((ring) => ring.state === 'awaiting-go'))
const words = computed<Word[]>(() => [...(asking.value && props.rollout.state === 'running' ? (['go'] as Word[]) : []), ...(POSSIBLE[props.rollout.state] ?? [])])
const asked = ref<Word | null>(null)

const effect = computed(() => {
  const { live, at_risk: atRisk } = props.rollout
  const waiting = live - atRisk
  const off = props.rollout.states['called-off'] ?? 0
  const effects: Record<Word, string> = {
    go: `Ring ${asking.value?.name} opens: ${asking.value?.planned} devices are served next.`,
    hold: `${live} attempts stay live, but nobody is offered or cleared anything until you resume.`,
    resume: `Offers and clearances are given again; ${off} devices that were called off are queued again.`,
    halt: `${waiting} attempts are called off. ${atRisk} devices have clearance already: they are waited for.`,
    cancel: `The rollout ends for good: ${waiting} attempts are called off. This is refused while devices are at risk (${atRisk} now).`,
  }
  return asked.value ? effects[asked.value] : ''
})

async function act(reason: string) {
  const params = { path: { rollout_id: props.rollout.id } }
  const body = { reason }
  if (asked.value === 'go') await told(api.POST('/api/v1/rollouts/{rollout_id}/go', { params, body }))
  else if (asked.value === 'hold') await told(api.POST('/api/v1/rollouts/{rollout_id}/hold', { params, body }))
  else if (asked.value === 'resume') await told(api.POST('/api/v1/rollouts/{rollout_id}/resume', { params, body }))
  else if (asked.value === 'halt') await told(api.POST('/api/v1/rollouts/{rollout_id}/halt', { params, body }))
  else await told(api.POST('/api/v1/rollouts/{rollout_id}/cancel', { params, body }))
  asked.value = null
  emit('done')
}
</script>

<template>
  <div class="row">
    <v-btn v-for="word in words" :key="word" size="small" :color="word === 'halt' ? 'error' : word === 'go' ? 'primary' : undefined" :variant="word === 'go' ? 'flat' : undefined" @click="asked = word">{{ word }}</v-btn>
    <ReasonDialog :word="asked" :title="`${asked} rollout ${rollout.id}`" needs-reason :act="act" @leave="asked = null">
      <p class="mb-4">{{ effect }}</p>
    </ReasonDialog>
  </div>
</template>
