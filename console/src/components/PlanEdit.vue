<script setup lang="ts">
import { stringify } from 'smol-toml'
import { computed, ref, watch } from 'vue'

import { api, told, type Rollout, type Schemas } from '../api/client'
import { fromToml, terse } from '../plan'
import ReasonDialog from './ReasonDialog.vue'

/** Changes what may be changed of a plan that runs, and shows before whom that touches. */
const props = defineProps<{ rollout: Rollout }>()
const emit = defineEmits<{ done: [] }>()
const PAUSE_MS = 400
const open = ref<string | null>(null)
const downloading = ref<number | null>(null)
const atRisk = ref<number | null>(null)
const enough = ref<number | null>(null)
const waitAtMost = ref('')
const harmAtMost = ref<number | null>(null)
const rest = ref('')
const before = ref('')
const unread = ref('')
const preview = ref<Schemas['PlanEditPreview'] | null>(null)
let waiting = 0

const first = computed(() => {
  const found = props.rollout.rings.findIndex((ring) => ring.state === 'closed' || ring.state === 'awaiting-go')
  return found < 0 ? props.rollout.rings.length : found
})
const openRing = computed(() => props.rollout.rings.find((ring) => ring.state === 'open' || ring.state === 'soaking'))
const alive = computed(() => ['scheduled', 'running', 'held'].includes(props.rollout.state))

watch(open, (word) => {
  preview.value = null
  if (!word) return
  const { pace, rings, numbers, calendar } = props.rollout.plan
  downloading.value = pace?.downloading_at_once ?? null
  atRisk.value = pace?.at_risk_at_once ?? null
  waitAtMost.value = numbers?.wait_at_most ?? ''
  harmAtMost.value = props.rollout.plan.harm?.at_most ?? null
  enough.value = openRing.value ? Math.round(100 * (rings[openRing.value.position]?.enough ?? 0)) : null
  const written = terse({ calendar, rings })
  before.value = rest.value = stringify({ calendar: written.calendar ?? {}, rings: (written.rings as object[]).slice(first.value) })
  unread.value = ''
})
watch([downloading, atRisk, enough, waitAtMost, harmAtMost, rest], () => {
  window.clearTimeout(waiting)
  if (open.value) waiting = window.setTimeout(look, PAUSE_MS)
})

function body(reason: string): Schemas['PlanEdit'] {
  const plan = props.rollout.plan
  const changed = rest.value !== before.value ? fromToml(rest.value) : null
  const opened = plan.rings.slice(0, first.value).map((ring, n) => (n === openRing.value?.position && enough.value !== null ? { ...ring, enough: enough.value / 100 } : ring))
  return {
    pace: { downloading_at_once: downloading.value || null, at_risk_at_once: atRisk.value || null },
    wait_at_most: waitAtMost.value || null,
    harm_at_most: props.rollout.plan.harm ? harmAtMost.value || null : null,
    // Once it has started, its start stays as it is.
    calendar: changed ? { ...changed.calendar, start: (props.rollout.state === 'scheduled' ? changed.calendar?.start : plan.calendar?.start) ?? null } : null,
    rings: props.rollout.kind === 'forward' ? [...opened, ...(changed ? (changed.rings ?? []) : plan.rings.slice(first.value))] : null,
    reason,
  } as Schemas['PlanEdit']
}
async function look() {
  try {
    const params = { path: { rollout_id: props.rollout.id } }
    preview.value = await told(api.POST('/api/v1/rollouts/{rollout_id}/plan-preview', { params, body: body('foreseen') }))
    unread.value = ''
  } catch (error) {
    unread.value = (error as Error).message
  }
}
async function act(reason: string) {
  const params = { path: { rollout_id: props.rollout.id }, header: { 'If-Match': `"${props.rollout.revision}"` } }
  await told(api.PATCH('/api/v1/rollouts/{rollout_id}/plan', { params, body: body(reason) }))
  open.value = null
  emit('done')
}
</script>

<template>
  <v-btn v-if="alive" size="small" @click="open = 'change'">change plan</v-btn>
  <ReasonDialog :word="open" :title="`Change the plan of rollout ${rollout.id}`" needs-reason fields-first :act="act" @leave="open = null">
    <p class="mb-3">Now {{ rollout.downloading }} devices download and {{ rollout.at_risk }} are at risk. Rings that are open stay as they are, but for how many must be good.</p>
    <div class="two mb-3">
      <v-text-field v-model.number="downloading" type="number" clearable label="Downloading at once" hide-details />
      <v-text-field v-model.number="atRisk" type="number" clearable label="At risk at once" hide-details />
      <v-text-field v-if="openRing" v-model.number="enough" type="number" :label="`Enough of ring ${openRing.name}, %`" hide-details />
      <v-text-field v-model="waitAtMost" label="Waits at most" hide-details />
      <v-text-field v-if="rollout.plan.harm" v-model.number="harmAtMost" type="number" label="At most so many devices hurt" hide-details />
    </div>
    <v-textarea v-if="rollout.kind === 'forward'" v-model="rest" label="Calendar, and rings to come (TOML)" rows="7" class="toml" spellcheck="false" hide-details />
    <v-alert v-if="unread" type="error" class="mt-2" density="compact">{{ unread }}</v-alert>
    <ul v-else-if="preview?.effects.length" class="effects mt-2" data-testid="effects" aria-live="polite">
      <li v-for="effect in preview.effects" :key="effect">{{ effect }}</li>
    </ul>
    <p v-else-if="preview && !preview.changes.length" class="quiet mt-2">Nothing changes.</p>
    <div class="mb-3" />
  </ReasonDialog>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
.effects {
  padding-left: 18px;
}
.toml :deep(textarea) {
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 13px;
}
</style>
