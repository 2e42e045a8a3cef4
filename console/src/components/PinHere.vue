<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type DeviceDetail } from '../api/client'
import { useClock } from '../stores/clock'
import ReasonDialog from './ReasonDialog.vue'

/** Keeps a device on what it runs until a day, or lets it go again. */
const props = defineProps<{ device: DeviceDetail }>()
const emit = defineEmits<{ done: [] }>()
const clock = useClock()
const asked = ref<string | null>(null)
const days = ref(14)
const pinned = computed(() => !!props.device.pinned_until && Date.parse(props.device.pinned_until) > clock.now.getTime())

async function act(reason: string) {
  const valid_for = pinned.value ? null : `${Math.max(1, Math.round(Number(days.value)))}d`
  await told(api.POST('/api/v1/pins', { body: { serials: [props.device.serial], valid_for, reason } }))
  asked.value = null
  emit('done')
}
</script>

<template>
  <v-btn size="small" @click="asked = pinned ? 'let go' : 'pin'">{{ pinned ? 'unpin …' : 'pin …' }}</v-btn>
  <ReasonDialog :word="asked" :title="pinned ? `Let ${device.serial} go` : `Pin ${device.serial} to what it runs`" needs-reason :fields-first="!pinned" :act="act" @leave="asked = null">
    <p class="mb-3">{{ pinned ? 'Rollouts that begin from now on may bring it something new.' : 'Rollouts that begin before the pin ends pass it over. What is under way goes on.' }}</p>
    <v-text-field v-if="!pinned" v-model="days" type="number" min="1" label="Days" />
  </ReasonDialog>
</template>
