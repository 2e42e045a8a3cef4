<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type DeviceDetail } from '../api/client'
import ReasonDialog from './ReasonDialog.vue'

/** Lets a device switch to what stands in its other slot. */
const props = defineProps<{ device: DeviceDetail }>()
const emit = defineEmits<{ done: [] }>()
const asked = ref<string | null>(null)
const other = computed(() => props.device.standby.app as { digest?: string | null; version?: string | null } | undefined)

async function act(reason: string) {
  await told(api.POST('/api/v1/devices/{serial}/swap', { params: { path: { serial: props.device.serial } }, body: { reason } }))
  asked.value = null
  emit('done')
}
</script>

<template>
  <v-btn v-if="other?.digest" size="small" @click="asked = 'swap'">swap slots</v-btn>
  <ReasonDialog :word="asked" :title="`Swap the slots of ${device.serial}`" needs-reason :act="act" @leave="asked = null">
    <p class="mb-4">
      It runs {{ device.version ?? 'an unnamed build' }} and switches to {{ other?.version ?? 'what stands in its other slot' }}, on trial as after any update. Nothing is downloaded.
    </p>
  </ReasonDialog>
</template>
