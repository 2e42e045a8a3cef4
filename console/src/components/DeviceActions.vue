<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told } from '../api/client'
import ReasonDialog from './ReasonDialog.vue'

type Word = 'admit' | 'refuse' | 'retire' | 'allow enrolment'
type Named = { serials: string[] } | { where: string }
const props = defineProps<{ admission: string; devices: Named; count: number }>()
const emit = defineEmits<{ done: [] }>()

const POSSIBLE: Record<string, Word[]> = { asking: ['admit', 'refuse'], refused: ['admit'], admitted: ['allow enrolment', 'retire'], retired: ['allow enrolment'] }
const TO = { admit: 'admitted', refuse: 'refused', retire: 'retired' } as const
const EFFECT: Record<Word, string> = {
  admit: 'Its token becomes good: it can be updated from then on.',
  refuse: 'Its token ends. It can be admitted later all the same.',
  retire: 'Its token ends at once and what it had not begun to switch to is called off. Its history stays.',
  'allow enrolment': 'It may enrol once more with a code, when it has lost its token. The old token is good until it does.',
}
const words = computed(() => (POSSIBLE[props.admission] ?? []).filter((word) => word !== 'allow enrolment' || 'serials' in props.devices))
const asked = ref<Word | null>(null)
const title = computed(() => `${asked.value} ${'serials' in props.devices ? props.devices.serials.join(', ') : `${props.count} devices`}`)

async function act(reason: string) {
  const word = asked.value
  if (!word) return
  if (word === 'allow enrolment') {
    const serial = 'serials' in props.devices ? (props.devices.serials[0] ?? '') : ''
    await told(api.POST('/api/v1/devices/{serial}/allow_enrolment', { params: { path: { serial } }, body: { reason } }))
  } else await told(api.POST('/api/v1/admissions', { body: { to: TO[word], ...props.devices, reason } }))
  asked.value = null
  emit('done')
}
</script>

<template>
  <div class="row">
    <v-btn v-for="word in words" :key="word" size="small" :color="word === 'retire' || word === 'refuse' ? 'error' : undefined" @click="asked = word">{{ word }}</v-btn>
    <ReasonDialog :word="asked" :title="title" needs-reason :act="act" @leave="asked = null">
      <p v-if="asked" class="mb-4">{{ EFFECT[asked] }}</p>
    </ReasonDialog>
  </div>
</template>
