<script setup lang="ts">
import { ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, told, type Rollout, type Schemas } from '../api/client'
import ReasonDialog from './ReasonDialog.vue'

/** Brings devices back to what they came from: who, in which way, who cannot; asked first. */
const props = defineProps<{ rollout: Rollout }>()
const router = useRouter()
const open = ref(false)
const ring = ref<number | null>(null)
const onlyBad = ref(false)
const where = ref('')
const preview = ref<Schemas['RollbackPreview'] | null>(null)
const failure = ref('')

function said(reason: string): Schemas['RollbackIn'] {
  return { reason, ring: ring.value, only_bad: onlyBad.value, where: where.value || null } as Schemas['RollbackIn']
}
const params = () => ({ path: { rollout_id: props.rollout.id } })
async function foresee() {
  try {
    preview.value = await told(api.POST('/api/v1/rollouts/{rollout_id}/rollback-preview', { params: params(), body: said('foreseen') }))
    failure.value = ''
  } catch (error) {
    failure.value = (error as Error).message
  }
}
watch([ring, onlyBad, where], foresee)
async function begin() {
  open.value = true
  await foresee()
}
defineExpose({ begin })
async function act(reason: string) {
  const started = await told(api.POST('/api/v1/rollouts/{rollout_id}/rollback', { params: params(), body: said(reason) }))
  open.value = false
  await router.push(`/rollouts/${started.id}`)
}
</script>

<template>
  <v-btn size="small" color="error" @click="begin">roll back</v-btn>
  <ReasonDialog :word="open ? 'roll back' : null" :title="`Back from ${rollout.release}`" needs-reason fields-first :act="act" @leave="open = false">
    <div class="row mb-2">
      <v-select v-model="ring" :items="[{ title: 'all rings', value: null }, ...rollout.rings.map((one) => ({ title: one.name, value: one.position }))]" label="Ring" density="compact" hide-details />
      <v-checkbox v-model="onlyBad" label="only those that went bad" density="compact" hide-details />
    </div>
    <v-text-field v-model.lazy="where" label="Only devices that a selector picks" class="mb-2" hide-details />
    <v-alert v-if="failure" type="error" class="mb-2">{{ failure }}</v-alert>
    <template v-if="preview">
      <p>{{ preview.targeted }} {{ preview.targeted === 1 ? 'device' : 'devices' }}<template v-if="preview.at_risk">, {{ preview.at_risk }} of them still at risk: their turn comes when that has ended</template>.</p>
      <table class="mb-4">
        <tbody>
          <tr v-for="way in preview.ways" :key="way.way" data-testid="way">
            <td class="count"><strong>{{ way.devices }}</strong></td>
            <td :class="{ cannot: !way.can }">{{ way.can ? way.way : `cannot: ${way.way}` }}</td>
            <td class="quiet">{{ way.words }}</td>
          </tr>
        </tbody>
      </table>
    </template>
  </ReasonDialog>
</template>

<style scoped>
td {
  padding: 2px 12px 2px 0;
}
.count {
  text-align: right;
}
.cannot {
  color: var(--rose);
}
</style>
