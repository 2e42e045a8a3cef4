<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Rollout } from '../api/client'
import ReasonDialog from './ReasonDialog.vue'

type Word = 'hold' | 'resume' | 'halt' | 'cancel'
const props = defineProps<{ rollout: Rollout }>()
const emit = defineEmits<{ done: [] }>()

const POSSIBLE: Record<string, Word[]> = { running: ['hold', 'halt'], held: ['resume', 'halt'], halted: ['resume', 'cancel'] }
const words = computed(() => POSSIBLE[props.rollout.state] ?? [])
const asked = ref<Word | null>(null)

const effect = computed(() => {
  const { live, at_risk: atRisk } = props.rollout
  const waiting = live - atRisk
  const effects: Record<Word, string> = {
    hold: `${live} attempts stay live, but nobody is offered or cleared anything until you resume.`,
    resume: 'Offers and clearances are given again; what a halt called off is queued again.',
    halt: `${waiting} attempts are called off. ${atRisk} devices have clearance already: they are waited for.`,
    cancel: 'The rollout ends for good. This is refused while devices are at risk.',
  }
  return asked.value ? effects[asked.value] : ''
})

async function act(reason: string) {
  const params = { path: { rollout_id: props.rollout.id } }
  const body = { reason }
  if (asked.value === 'hold') await told(api.POST('/api/v1/rollouts/{rollout_id}/hold', { params, body }))
  else if (asked.value === 'resume') await told(api.POST('/api/v1/rollouts/{rollout_id}/resume', { params, body }))
  else if (asked.value === 'halt') await told(api.POST('/api/v1/rollouts/{rollout_id}/halt', { params, body }))
  else await told(api.POST('/api/v1/rollouts/{rollout_id}/cancel', { params, body }))
  asked.value = null
  emit('done')
}
</script>

<template>
  <div class="row">
    <v-btn v-for="word in words" :key="word" size="small" :color="word === 'halt' ? 'error' : undefined" @click="asked = word">{{ word }}</v-btn>
    <ReasonDialog :word="asked" :title="`${asked} rollout ${rollout.id}`" needs-reason :act="act" @leave="asked = null">
      <p class="mb-4">{{ effect }}</p>
    </ReasonDialog>
  </div>
</template>
