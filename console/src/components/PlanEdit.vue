<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told, type Rollout, type Schemas } from '../api/client'
import { fromToml, terse } from '../plan'
import { stringify } from 'smol-toml'
import ReasonDialog from './ReasonDialog.vue'

/** Changes the pace, and the rings that are not open yet, of a rollout that runs. */
const props = defineProps<{ rollout: Rollout }>()
const emit = defineEmits<{ done: [] }>()
const open = ref<string | null>(null)
const downloading = ref<number | null>(null)
const atRisk = ref<number | null>(null)
const rings = ref('')
const before = ref('')

const first = computed(() => {
  const found = props.rollout.rings.findIndex((ring) => ring.state === 'closed' || ring.state === 'awaiting-go')
  return found < 0 ? props.rollout.rings.length : found
})
const alive = computed(() => ['scheduled', 'running', 'held'].includes(props.rollout.state))

watch(open, (word) => {
  if (!word) return
  const { pace, rings: all } = props.rollout.plan
  downloading.value = pace?.downloading_at_once ?? null
  atRisk.value = pace?.at_risk_at_once ?? null
  before.value = rings.value = stringify({ rings: (terse({ rings: all }).rings as object[]).slice(first.value) })
})

async function act(reason: string) {
  const pace = { downloading_at_once: downloading.value || null, at_risk_at_once: atRisk.value || null }
  const changed = rings.value !== before.value
  const all = changed ? [...props.rollout.plan.rings.slice(0, first.value), ...(fromToml(rings.value).rings ?? [])] : null
  const body = { pace, rings: all, reason } as Schemas['PlanEdit']
  const params = { path: { rollout_id: props.rollout.id }, header: { 'If-Match': `"${props.rollout.revision}"` } }
  await told(api.PATCH('/api/v1/rollouts/{rollout_id}/plan', { params, body }))
  open.value = null
  emit('done')
}
</script>

<template>
  <v-btn v-if="alive" size="small" @click="open = 'change'">change plan</v-btn>
  <ReasonDialog :word="open" :title="`Change the plan of rollout ${rollout.id}`" needs-reason :act="act" @leave="open = null">
    <p class="mb-3">Now {{ rollout.downloading }} devices download and {{ rollout.at_risk }} are at risk. Rings that are open stay as they are.</p>
    <div class="two mb-3">
      <v-text-field v-model.number="downloading" type="number" clearable label="Downloading at once" hide-details />
      <v-text-field v-model.number="atRisk" type="number" clearable label="At risk at once" hide-details />
    </div>
    <v-textarea v-if="first < rollout.rings.length" v-model="rings" label="Rings to come (TOML)" rows="8" class="toml" spellcheck="false" />
  </ReasonDialog>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
.toml :deep(textarea) {
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 13px;
}
</style>
