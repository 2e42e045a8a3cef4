<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import ReasonDialog from './ReasonDialog.vue'

/** A second person's yes, with all that there is to see before it is given. */
const props = defineProps<{ rolloutId: number; open: boolean }>()
const emit = defineEmits<{ leave: []; done: [] }>()
const seen = ref<Schemas['ToApprove'] | null>(null)
const failure = ref('')

watch(
  () => props.open,
  async (open) => {
    if (!open) return
    try {
      failure.value = ''
      seen.value = await told(api.GET('/api/v1/rollouts/{rollout_id}/approvals', { params: { path: { rollout_id: props.rolloutId } } }))
    } catch (error) {
      failure.value = (error as Error).message
    }
  },
)
async function act(reason: string) {
  await told(api.POST('/api/v1/rollouts/{rollout_id}/approvals', { params: { path: { rollout_id: props.rolloutId } }, body: { ring: seen.value?.ring ?? null, reason } }))
  emit('done')
}
</script>

<template>
  <ReasonDialog :word="open ? 'approve' : null" :title="`Approve of ring ${seen?.name ?? ''} of rollout ${rolloutId}`" needs-reason fields-first :act="act" @leave="emit('leave')">
    <v-alert v-if="failure" type="error" class="mb-2">{{ failure }}</v-alert>
    <div v-if="seen" data-testid="to-approve">
      <p class="mb-2"><strong>{{ seen.devices }} {{ seen.devices === 1 ? 'device comes' : 'devices come' }}</strong> next. So far <strong :class="{ bad: seen.hurt }">{{ seen.hurt }}</strong> of {{ seen.exposed }} exposed devices went bad.</p>
      <ul class="seen mb-2">
        <li v-for="words in seen.brakes" :key="words">{{ words }}</li>
        <li v-if="seen.control">{{ seen.control }}</li>
        <li v-if="seen.budget">{{ seen.budget }}</li>
        <li v-for="words in seen.compared" :key="words">{{ words }}</li>
        <li v-for="words in seen.rehearsed" :key="words">{{ words }}</li>
        <li>{{ seen.evidence.words }}</li>
        <li v-for="one in seen.evidence.items.slice(0, 8)" :key="one.id" class="quiet">{{ one.kind }}<template v-if="one.serial"> about {{ one.serial }}</template>: {{ one.text }}<template v-if="one.withdrawn_by"> (withdrawn)</template><template v-else-if="one.acknowledged_by"> (acknowledged by {{ one.acknowledged_by }}{{ one.unrelated ? ', unrelated' : '' }})</template><template v-else-if="one.waits"> (nobody has looked yet)</template></li>
      </ul>
      <v-alert v-if="!seen.may" type="warning" density="compact" class="mb-2">{{ seen.why_not }}</v-alert>
    </div>
  </ReasonDialog>
</template>

<style scoped>
.seen {
  padding-left: 18px;
}
</style>
