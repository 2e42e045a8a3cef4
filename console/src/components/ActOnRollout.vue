<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Rollout } from '../api/client'

type Word = 'hold' | 'resume' | 'halt' | 'cancel'
const props = defineProps<{ rollout: Rollout }>()
const emit = defineEmits<{ done: [] }>()

const POSSIBLE: Record<string, Word[]> = { running: ['hold', 'halt'], held: ['resume', 'halt'], halted: ['resume', 'cancel'] }
const words = computed(() => POSSIBLE[props.rollout.state] ?? [])
const asked = ref<Word | null>(null)
const reason = ref('')
const failure = ref('')

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

function ask(word: Word) {
  asked.value = word
  reason.value = failure.value = ''
}

async function act() {
  if (!asked.value) return
  const params = { path: { rollout_id: props.rollout.id } }
  const body = { reason: reason.value }
  try {
    if (asked.value === 'hold') await told(api.POST('/api/v1/rollouts/{rollout_id}/hold', { params, body }))
    else if (asked.value === 'resume') await told(api.POST('/api/v1/rollouts/{rollout_id}/resume', { params, body }))
    else if (asked.value === 'halt') await told(api.POST('/api/v1/rollouts/{rollout_id}/halt', { params, body }))
    else await told(api.POST('/api/v1/rollouts/{rollout_id}/cancel', { params, body }))
    asked.value = null
    emit('done')
  } catch (error) {
    failure.value = (error as Error).message
  }
}
</script>

<template>
  <div class="row">
    <v-btn v-for="word in words" :key="word" size="small" :color="word === 'halt' ? 'error' : undefined" @click="ask(word)">{{ word }}</v-btn>
    <v-dialog :model-value="asked !== null" max-width="480" @update:model-value="asked = null">
      <v-card v-if="asked" class="panel">
        <h2>{{ asked }} rollout {{ rollout.id }}</h2>
        <p class="mb-4">{{ effect }}</p>
        <form @submit.prevent="act">
          <v-text-field v-model="reason" label="Reason, for the journal" autofocus />
          <v-alert v-if="failure" type="error" class="mb-4" role="alert">{{ failure }}</v-alert>
          <div class="row">
            <v-btn type="submit" color="primary" variant="flat" :disabled="reason.trim().length < 3">{{ asked }}</v-btn>
            <v-btn @click="asked = null">Leave it</v-btn>
          </div>
        </form>
      </v-card>
    </v-dialog>
  </div>
</template>
