<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type DeviceDetail } from '../api/client'
import DeviceActions from '../components/DeviceActions.vue'
import DeviceWords from '../components/DeviceWords.vue'
import StateMark from '../components/StateMark.vue'
import TimelineTable from '../components/TimelineTable.vue'
import { useLoading } from '../loading'
import { useClock } from '../stores/clock'
import { reloadOn } from '../stores/feed'
import { ago, listed, moment } from '../words'

type Content = { version?: string; digest?: string; slot?: string; floor?: number }
const props = defineProps<{ serial: string }>()
const device = ref<DeviceDetail | null>(null)
const clock = useClock()
const { failure, reload } = useLoading(async () => {
  const { now, scale } = await told(api.GET('/api/v1/overview'))
  clock.learn(now, scale)
  device.value = await told(api.GET('/api/v1/devices/{serial}', { params: { path: { serial: props.serial } } }))
})
reloadOn((event) => event.device_id === device.value?.id, reload)

const slots = computed(() => {
  const running = (device.value?.running.app ?? {}) as Content
  const standby = (device.value?.standby.app ?? null) as Content | null
  const both = [{ ...running, runs: true }, { ...(standby ?? { slot: running.slot === 'a' ? 'b' : 'a' }), runs: false }]
  return both.sort((a, b) => (a.slot ?? '').localeCompare(b.slot ?? ''))
})
</script>

<template>
  <div class="page">
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <template v-if="device">
      <div class="row mb-4">
        <h1>{{ device.serial }}</h1>
        <span class="quiet">{{ device.board }} revision {{ device.hw_rev }}, line {{ device.line }}</span>
        <strong v-if="device.admission !== 'admitted'">{{ device.admission }}</strong>
        <span v-if="device.may_enrol_again" class="quiet">may enrol once more</span>
        <StateMark v-if="device.attempt" :state="device.attempt.state" class="push" />
        <DeviceActions :class="{ push: !device.attempt }" :admission="device.admission" :devices="{ serials: [device.serial] }" :count="1" @done="reload" />
      </div>
      <div class="columns two mb-5">
        <v-card class="panel">
          <h2>Slots</h2>
          <div class="slots">
            <div v-for="slot in slots" :key="slot.slot" class="slot" :class="{ runs: slot.runs }">
              <div class="quiet">slot {{ slot.slot }} · {{ slot.runs ? 'running' : 'standby' }}</div>
              <div class="number">{{ slot.version ?? 'empty' }}</div>
              <div class="mono quiet">{{ slot.digest?.slice(0, 24) }}{{ slot.digest ? '…' : '' }}</div>
              <div v-if="slot.version" class="quiet">floor number {{ slot.floor }}</div>
            </div>
          </div>
          <v-alert v-if="device.known_build === false" type="warning" class="mt-3">
            No release has these bytes: an unknown build. It is not overwritten unasked.
          </v-alert>
        </v-card>
        <v-card class="panel">
          <h2>What it says of itself</h2>
          <dl class="facts">
            <dt>Presence</dt>
            <dd>{{ device.presence }}, heard {{ device.seen_at ? ago(Date.parse(device.seen_at), clock.now.getTime()) : 'never' }}</dd>
            <dt>Next check-in</dt>
            <dd>expected {{ moment(device.next_checkin_at) }}</dd>
            <dt>Labels</dt>
            <dd><DeviceWords :device="device" @done="reload" /></dd>
            <template v-if="device.pinned_until && Date.parse(device.pinned_until) > clock.now.getTime()">
              <dt>Pinned</dt>
              <dd>until {{ moment(device.pinned_until).slice(0, 16) }} by {{ device.pinned_by }}: {{ device.pinned_why }}</dd>
            </template>
            <dt>Condition</dt>
            <dd>{{ listed(device.condition) }}</dd>
            <dt>Readings</dt>
            <dd>{{ listed(device.readings) }}</dd>
            <dt>Boots</dt>
            <dd>{{ device.boots }}</dd>
            <dt>Settings</dt>
            <dd class="mono">{{ device.settings_digest?.slice(0, 16) }}</dd>
            <dt>Enrolled</dt>
            <dd>{{ moment(device.enrolled_at) }}</dd>
          </dl>
        </v-card>
      </div>
      <h2>Timeline, newest first</h2>
      <v-card><TimelineTable :entries="device.timeline" show-rollout /></v-card>
    </template>
  </div>
</template>

<style scoped>
.two {
  grid-template-columns: 1fr 1fr;
}
.slots {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 12px;
}
.slot {
  padding: 14px;
  border: 2px dashed var(--grey-blue);
  border-radius: 10px;
}
.slot.runs {
  border: 2px solid var(--sage);
}
</style>
