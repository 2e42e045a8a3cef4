<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import type { Sent } from '../plan'

/** In which order a plan stages and switches, asked for by hand: it takes the whole tree. */
const props = defineProps<{ plan: Sent }>()
const steps = ref<Schemas['StepsOut'] | null>(null)
const failure = ref('')
const asking = ref(false)

watch(
  () => props.plan,
  () => {
    steps.value = null
    failure.value = ''
  },
)
async function ask() {
  asking.value = true
  failure.value = ''
  try {
    steps.value = await told(api.POST('/api/v1/previews/steps', { body: props.plan }))
  } catch (error) {
    failure.value = error instanceof Error ? error.message : String(error)
  } finally {
    asking.value = false
  }
}
</script>

<template>
  <div>
    <v-btn v-if="!steps" size="small" :loading="asking" @click="ask">Show the steps</v-btn>
    <v-alert v-if="failure" type="error" class="mt-2">{{ failure }}</v-alert>
    <template v-if="steps">
      <h2 class="mt-4">Step by step</h2>
      <p class="quiet">
        On each device: {{ steps.parts.map((group) => group.join(' and ')).join(', then ') }}; {{ steps.restart ? 'each restarts' : 'none restarts' }}.
      </p>
      <ol class="steps">
        <li v-for="step in steps.steps" :key="step.number" :data-testid="`step-${step.number}`">
          <strong>{{ step.do }}</strong> {{ step.devices }} {{ step.devices === 1 ? 'device' : 'devices' }} <span class="quiet">of ring {{ step.ring }}, when {{ step.waits_for.join('; ') }}</span>
          <div class="mono quiet">{{ step.first.join(' ') }}{{ step.devices > step.first.length ? ' …' : '' }}</div>
          <div v-for="cut in step.restarts" :key="cut.gateway" class="cut">
            {{ cut.gateway }} cuts off {{ cut.outside }} outside the rollout<template v-if="cut.outside"> ({{ cut.first.slice(0, 4).join(', ') }}{{ cut.outside > 4 ? ' …' : '' }})</template>, {{ cut.seconds == null ? 'for a time that is not known' : `for about ${Math.round(cut.seconds)} s` }}
          </div>
        </li>
      </ol>
      <v-alert v-for="note in steps.notes" :key="note" type="warning" density="compact" class="mb-2">{{ note }}</v-alert>
    </template>
  </div>
</template>

<style scoped>
.steps {
  padding-left: 22px;
}
.steps li {
  margin-bottom: 8px;
}
.cut {
  color: var(--honey);
}
</style>
