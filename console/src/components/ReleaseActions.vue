<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, told, type Release, type Schemas } from '../api/client'
import ReasonDialog from './ReasonDialog.vue'

type Word = 'publish' | 'make baseline' | 'withdraw' | 'drop'
const props = defineProps<{ release: Release }>()
const emit = defineEmits<{ done: [] }>()
const router = useRouter()

const POSSIBLE: Record<string, Word[]> = { draft: ['publish', 'drop'], published: ['make baseline', 'withdraw'], withdrawn: [] }
const words = computed(() => (POSSIBLE[props.release.state] ?? []).filter((word) => !(word === 'make baseline' && props.release.baseline)))
const asked = ref<Word | null>(null)
const stops = ref<Schemas['WithdrawalOut'] | null>(null)
const needsReason = computed(() => asked.value === 'withdraw' || asked.value === 'make baseline')
const params = computed(() => ({ path: { release_id: props.release.id } }))

async function ask(word: Word) {
  stops.value = null
  if (word === 'withdraw') stops.value = await told(api.GET('/api/v1/releases/{release_id}/withdrawal', { params: params.value }))
  asked.value = word
}

async function act(reason: string) {
  const body = { reason }
  if (asked.value === 'publish') await told(api.POST('/api/v1/releases/{release_id}/publish', { params: params.value }))
  else if (asked.value === 'make baseline') await told(api.POST('/api/v1/releases/{release_id}/baseline', { params: params.value, body }))
  else if (asked.value === 'withdraw') await told(api.POST('/api/v1/releases/{release_id}/withdraw', { params: params.value, body }))
  else if (asked.value === 'drop') {
    const { error } = await api.DELETE('/api/v1/releases/{release_id}', { params: params.value })
    if (error) throw new Error(error.detail)
    await router.push('/lineage')
    return
  }
  asked.value = null
  emit('done')
}
</script>

<template>
  <div class="row">
    <v-btn v-for="word in words" :key="word" size="small" :color="word === 'withdraw' || word === 'drop' ? 'error' : undefined" @click="ask(word)">{{ word }}</v-btn>
    <ReasonDialog :word="asked" :title="`${asked} ${release.name}`" :needs-reason="needsReason" :act="act" @leave="asked = null">
      <template v-if="stops">
        <p class="mb-2">No device is offered it any more. This stops:</p>
        <dl class="facts mb-4">
          <dt>rollouts that halt</dt>
          <dd>
            <span v-if="!Object.keys(stops.rollouts).length">none</span>
            <div v-for="(name, id) in stops.rollouts" :key="id">{{ id }}: {{ name }}</div>
          </dd>
          <dt>devices on the way</dt>
          <dd>{{ stops.on_the_way }}</dd>
          <dt>devices that run it</dt>
          <dd>{{ stops.running }}; they keep it until another release comes</dd>
          <template v-if="stops.baseline">
            <dt>baseline</dt>
            <dd>it is the baseline; there will be none</dd>
          </template>
        </dl>
      </template>
      <p v-else-if="asked === 'publish'" class="mb-4">It is checked again against the keys and releases that are there now, then offered.</p>
      <p v-else-if="asked === 'make baseline'" class="mb-4">Newly admitted or returning devices of {{ release.line }} on {{ release.board }} should run it.</p>
      <p v-else class="mb-4">The draft and its images go for good.</p>
    </ReasonDialog>
  </div>
</template>
