<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Rollout, type Schemas } from '../api/client'
import ApproveRing from './ApproveRing.vue'
import ReasonDialog from './ReasonDialog.vue'
import RollBack from './RollBack.vue'

type Word = 'go' | 'hold' | 'resume' | 'halt' | 'cancel' | 'retry' | 'leave out' | 'ask less' | 'allow more harm'
const props = defineProps<{ rollout: Rollout }>()
type Choice = Schemas['ChoiceOut']
const leaveOut = ref('')
const emit = defineEmits<{ done: []; look: [what: 'failures' | 'suspects' | 'evidence' | 'choose'] }>()
const approving = ref(false)

const POSSIBLE: Record<string, Word[]> = {
  scheduled: ['cancel'],
  running: ['hold', 'halt'],
  held: ['resume', 'halt', 'cancel'],
  halted: ['resume', 'cancel'],
}
const asking = computed(() => props.rollout.rings.find((ring) => (ring.state === 'awaiting-go' && (ring.asks ?? 'go') === 'go') || (ring.state !== 'closed' && ring.state !== 'awaiting-go' && ring.stands_why && ring.state !== 'done' && !props.rollout.budget?.used_up)))
const words = computed<Word[]>(() => [...(asking.value && props.rollout.state === 'running' ? (['go'] as Word[]) : []), ...(POSSIBLE[props.rollout.state] ?? [])])
const asked = ref<Word | null>(null)
const canRollBack = computed(() => props.rollout.kind === 'forward' && ['halted', 'finished', 'cancelled'].includes(props.rollout.state) && props.rollout.exposed > (props.rollout.states['rolled-back'] ?? 0))

/** Asks for a resume without some devices: what a suspect's button does. */
function resumeWithout(selector: string) {
  leaveOut.value = selector
  asked.value = 'resume'
}
const DOES: Partial<Record<Choice['do'], Word>> = { go: 'go', hold: 'hold', resume: 'resume', halt: 'halt', cancel: 'cancel', retry: 'retry', 'leave-out': 'leave out', enough: 'ask less', budget: 'allow more harm' }
const atMost = ref(0)
const back = ref<InstanceType<typeof RollBack> | null>(null)

/** Asks for what was chosen. */
function choose(choice: Choice) {
  if (choice.do === 'failures' || choice.do === 'suspects' || choice.do === 'evidence' || choice.do === 'choose') emit('look', choice.do)
  else if (choice.do === 'approve') approving.value = true
  else if (choice.do === 'roll-back') void back.value?.begin()
  else asked.value = DOES[choice.do] ?? null
  if (choice.do === 'budget') atMost.value = 2 * (props.rollout.budget?.at_most ?? 0)
}
defineExpose({ resumeWithout, choose })

const standing = computed(() => props.rollout.rings.find((ring) => ring.stands_why && ring.state !== 'done'))
const chosen = (what: Choice['do']) => props.rollout.choices.find((choice) => choice.do === what)
const lower = computed(() => Number(/--enough (\S+)/.exec(chosen('enough')?.command ?? '')?.[1] ?? NaN))

const effect = computed(() => {
  const { live, at_risk: atRisk } = props.rollout
  const waiting = live - atRisk
  const off = props.rollout.states['called-off'] ?? 0
  const effects: Record<Word, string> = {
    go: asking.value?.stands_why
      ? `Ring ${asking.value.name} goes on all the same, though ${asking.value.stands_why}. If another of its devices goes bad, it stands still again.`
      : `Ring ${asking.value?.name} opens: ${asking.value?.planned} devices are served next.`,
    hold: `${live} attempts stay live, but nobody is offered or cleared anything until you resume.`,
    resume: `Offers and clearances are given again; ${off} devices that were called off are queued again.`,
    halt: `${waiting} attempts are called off. ${atRisk} devices have clearance already: they are waited for.`,
    retry: `${chosen('retry')?.devices ?? 0} bad devices of ring ${standing.value?.name} are queued again for one more try.`,
    'leave out': `${chosen('leave-out')?.devices ?? 0} devices of ring ${standing.value?.name} that are not good are left out: they keep what they run, and hold the ring no longer.`,
    'ask less': `Ring ${standing.value?.name} is through when ${Math.round(100 * lower.value)} % of its devices are good.`,
    'allow more harm': `${props.rollout.budget?.hurt} devices were hurt; ${waiting} wait. So many may be hurt in all:`,
    cancel: `The rollout ends for good: ${waiting} attempts are called off. This is refused while devices are at risk (${atRisk} now).`,
  }
  return asked.value ? effects[asked.value] : ''
})

function askLess(reason: string) {
  const rings = props.rollout.plan.rings.map((ring, n) => (n === standing.value?.position ? { ...ring, enough: lower.value } : ring))
  return change({ rings, reason })
}
async function change(body: object) {
  const params = { path: { rollout_id: props.rollout.id }, header: { 'If-Match': `"${props.rollout.revision}"` } }
  await told(api.PATCH('/api/v1/rollouts/{rollout_id}/plan', { params, body: body as Schemas['PlanEdit'] }))
}
async function act(reason: string) {
  const params = { path: { rollout_id: props.rollout.id } }
  const body = { reason }
  if (asked.value === 'go') await told(api.POST('/api/v1/rollouts/{rollout_id}/go', { params, body }))
  else if (asked.value === 'hold') await told(api.POST('/api/v1/rollouts/{rollout_id}/hold', { params, body }))
  else if (asked.value === 'resume') await told(api.POST('/api/v1/rollouts/{rollout_id}/resume', { params, body: { ...body, leave_out: leaveOut.value || null } }))
  else if (asked.value === 'retry') await told(api.POST('/api/v1/rollouts/{rollout_id}/retries', { params, body: { ...body, ring: standing.value?.position } }))
  else if (asked.value === 'leave out') await told(api.POST('/api/v1/rollouts/{rollout_id}/leave-out', { params, body }))
  else if (asked.value === 'ask less') await askLess(reason)
  else if (asked.value === 'allow more harm') await change({ harm_at_most: Number(atMost.value), reason })
  else if (asked.value === 'halt') await told(api.POST('/api/v1/rollouts/{rollout_id}/halt', { params, body }))
  else await told(api.POST('/api/v1/rollouts/{rollout_id}/cancel', { params, body }))
  asked.value = null
  leaveOut.value = ''
  emit('done')
}
</script>

<template>
  <div class="row">
    <v-btn v-for="word in words" :key="word" size="small" :color="word === 'halt' ? 'error' : word === 'go' ? 'primary' : undefined" :variant="word === 'go' ? 'flat' : undefined" @click="asked = word">{{ word }}</v-btn>
    <ApproveRing :rollout-id="rollout.id" :open="approving" @leave="approving = false" @done="((approving = false), emit('done'))" />
    <RollBack v-if="canRollBack" ref="back" :rollout="rollout" />
    <ReasonDialog :word="asked" :title="`${asked} rollout ${rollout.id}`" needs-reason :fields-first="asked === 'resume' || asked === 'allow more harm'" :act="act" @leave="asked = null">
      <p class="mb-4">{{ effect }}</p>
      <v-text-field v-if="asked === 'allow more harm'" v-model.number="atMost" type="number" label="At most so many devices hurt" class="mb-2" hide-details />
      <template v-if="asked === 'resume' && rollout.state === 'halted'">
        <p class="quiet mb-2">A new round begins: the brakes count devices first exposed from now on.</p>
        <v-text-field v-model="leaveOut" label="Except devices that this selector picks" placeholder="hw_rev = 2" class="mb-2" hide-details />
      </template>
    </ReasonDialog>
  </div>
</template>
