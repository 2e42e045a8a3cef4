<script setup lang="ts">
import { computed, onScopeDispose, ref } from 'vue'

import { api, told, type Schemas } from '../api/client'
import type { PlanDocument, Sent } from '../plan'
import { inWords, moment } from '../words'
import RehearsedFault from './RehearsedFault.vue'

/** Plays a plan on a model of the fleet, with faults, beside the rehearsal before. */
const props = defineProps<{ plan: PlanDocument; disabled: boolean }>()
const LOOK_MS = 700
const faults = ref('none\n0.1 crashed')
const current = ref<Schemas['RehearsalOut'] | null>(null)
const before = ref<Schemas['RehearsalOut'] | null>(null)
const others = ref<Schemas['RehearsalOut'][]>([])
const failure = ref('')
let waiting = 0
onScopeDispose(() => window.clearTimeout(waiting))

const running = computed(() => ['waiting', 'running'].includes(current.value?.state ?? ''))
const besides = computed(() => others.value.filter((one) => one.state === 'done' && one.id !== current.value?.id).map((one) => ({ title: `${one.id}: ${one.name}, ${moment(one.asked_at)}`, value: one.id })))
const beside = (fault: string) => before.value?.result?.faults.find((one) => one.fault === fault) ?? null

async function begin() {
  failure.value = ''
  try {
    const asked = { plan: JSON.parse(JSON.stringify(props.plan)) as Sent, faults: faults.value.split('\n').map((line) => line.trim()).filter(Boolean) }
    if (current.value?.state === 'done') before.value = current.value
    current.value = await told(api.POST('/api/v1/rehearsals', { body: asked as Schemas['RehearsalIn'] }))
    look()
  } catch (error) {
    failure.value = (error as Error).message
  }
}
function look() {
  waiting = window.setTimeout(async () => {
    try {
      if (current.value) current.value = await told(api.GET('/api/v1/rehearsals/{rehearsal_id}', { params: { path: { rehearsal_id: current.value.id } } }))
    } catch (error) {
      failure.value = (error as Error).message
    }
    if (running.value) look()
    else others.value = await told(api.GET('/api/v1/rehearsals', {}))
  }, LOOK_MS)
}
async function cancel() {
  if (current.value) current.value = await told(api.POST('/api/v1/rehearsals/{rehearsal_id}/cancel', { params: { path: { rehearsal_id: current.value.id } } }))
}
function choose(id: number | null) {
  before.value = others.value.find((one) => one.id === id) ?? null
}
</script>

<template>
  <div data-testid="rehearse">
    <p class="quiet mb-2">Plays this plan 200 times with each fault on a model of your fleet: each device as its last week was. Nothing is sent.</p>
    <v-textarea v-model="faults" label="Faults, one a line" rows="3" auto-grow hide-details spellcheck="false" class="toml mb-2" />
    <p class="quiet mb-2">For example <code>none</code>, <code>hw_rev = 2: 0.3 crashed</code>, <code>0.05 crash-looping after 6h</code>, <code>0.1 download-broken</code>.</p>
    <div class="row mb-3">
      <v-btn color="primary" variant="flat" size="small" :disabled="disabled || running" @click="begin">Rehearse</v-btn>
      <v-btn v-if="running" size="small" @click="cancel">cancel</v-btn>
      <v-select v-if="besides.length" class="beside" density="compact" clearable :items="besides" :model-value="before?.id ?? null" label="Beside" hide-details @update:model-value="choose" />
    </div>
    <v-alert v-if="failure" type="error" class="mb-3" role="alert">{{ failure }}</v-alert>
    <template v-if="current">
      <v-progress-linear v-if="running" :model-value="100 * current.progress" height="6" class="mb-2" :aria-label="`Rehearsal ${current.id}`" />
      <p v-if="current.state === 'waiting'" class="quiet">It waits for another rehearsal to be done.</p>
      <v-alert v-if="current.state === 'failed' || current.state === 'cancelled'" type="warning" class="mb-3">{{ current.state }}{{ current.why ? `: ${current.why}` : '' }}</v-alert>
      <template v-if="current.result">
        <p class="mb-3">
          <strong>Rehearsal {{ current.id }}</strong>, {{ current.result.devices }} {{ current.result.devices === 1 ? 'device' : 'devices' }}<template v-if="current.result.assumed">, {{ Math.round(100 * current.result.assumed) }} % of them without a week of their own</template>. Numbers are the median, and 10 … 90 % of all runs.
        </p>
        <RehearsedFault v-for="fault in current.result.faults" :key="fault.fault" :fault="fault" :beside="beside(fault.fault)" />
        <template v-if="current.result.levers.length">
          <h3>What would change most</h3>
          <p v-for="lever in current.result.levers" :key="lever.words">
            <code>{{ lever.key }}</code>: {{ lever.words }}: {{ inWords(Math.abs(1000 * lever.sooner_s)) }} {{ lever.sooner_s >= 0 ? 'sooner' : 'later' }}<template v-if="lever.spared !== null">, {{ Math.round(lever.spared) }} devices spared of the first fault</template>.
          </p>
        </template>
        <p v-for="words in current.result.assumptions" :key="words" class="quiet">Taken for granted: {{ words }}.</p>
      </template>
    </template>
  </div>
</template>

<style scoped>
.beside {
  max-width: 320px;
}
.toml :deep(textarea) {
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 13px;
}
</style>
