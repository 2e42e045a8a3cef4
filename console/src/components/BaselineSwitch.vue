<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import ReasonDialog from './ReasonDialog.vue'

/** Whether the baseline of a board and line brings devices that arrive; says first what it would do. */
const props = defineProps<{ name: string; baseline: string | null }>()
const due = ref<Schemas['BaselinePreview'] | null>(null)
const asked = ref<string | null>(null)

watch(() => [props.name, props.baseline], load, { immediate: true })

function path() {
  const [board = '', line = ''] = props.name.split('/')
  return { board, line }
}

async function load() {
  due.value = props.baseline ? await told(api.GET('/api/v1/baselines/{board}/{line}', { params: { path: path() } })).catch(() => null) : null
}

async function open() {
  await load()
  if (due.value) asked.value = due.value.brings ? 'bring nobody' : 'bring devices'
}

async function act(reason: string) {
  const body = { brings: !due.value?.brings, reason }
  due.value = await told(api.PATCH('/api/v1/baselines/{board}/{line}', { params: { path: path() }, body }))
  asked.value = null
}
</script>

<template>
  <div v-if="due" class="row mt-2">
    <span>Baseline <strong>{{ baseline }}</strong>: {{ due.brings ? 'devices that arrive are brought to it.' : 'nobody is brought to it unasked.' }}</span>
    <v-btn size="small" @click="open">{{ due.brings ? 'bring nobody …' : 'bring devices that arrive …' }}</v-btn>
    <ReasonDialog :word="asked" :title="`Baseline ${due.release}`" needs-reason :act="act" @leave="asked = null">
      <p v-if="due.brings" class="mb-4">Devices that arrive from now on stay on what they run. Rollouts under way go on.</p>
      <template v-else>
        <p class="mb-2">
          Now it would bring <strong>{{ due.would_bring }}</strong> devices that arrived{{ due.first.length ? `: ${due.first.join(', ')}` : '' }}.
          Whoever is admitted later, or comes back after a week, is brought to it. Never to an older version.
        </p>
        <p class="mb-4 quiet">
          {{ due.left_alone }} older ones that did not arrive are left alone.
          <template v-for="(count, reason) in due.passed_over" :key="reason">{{ count }} passed over: {{ reason }}. </template>
        </p>
      </template>
    </ReasonDialog>
  </div>
</template>
