<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type DeviceDetail } from '../api/client'
import AlarmLines from '../components/AlarmLines.vue'
import BenchHere from '../components/BenchHere.vue'
import BothEnds from '../components/BothEnds.vue'
import CoapHere from '../components/CoapHere.vue'
import DeviceActions from '../components/DeviceActions.vue'
import DeviceReleases from '../components/DeviceReleases.vue'
import DeviceWords from '../components/DeviceWords.vue'
import InstallHere from '../components/InstallHere.vue'
import PartsTable from '../components/PartsTable.vue'
import RadioHere from '../components/RadioHere.vue'
import ReadingsHere from '../components/ReadingsHere.vue'
import SwapSlots from '../components/SwapSlots.vue'
import PinHere from '../components/PinHere.vue'
import ReasonDialog from '../components/ReasonDialog.vue'
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
  device.value = await told(api.GET('/api/v1/devices/{serial}', { params: { path: { serial: props.serial } } }))
})
// A ring that opens gives devices their attempts, and says so of the rollout alone.
reloadOn((event) => event.device_id === device.value?.id || event.kind === 'rollout', reload)

const parts = computed(() => {
  const found = device.value
  if (!found) return []
  const names = [...new Set([...Object.keys(found.running), ...Object.keys(found.standby)])]
  names.sort((one, other) => Number(other === 'app') - Number(one === 'app') || one.localeCompare(other))
  return names.map((name) => {
    const running = (found.running[name] ?? null) as Content | null
    const standby = (found.standby[name] ?? null) as Content | null
    const empty = { slot: running?.slot === '' ? '' : running?.slot === 'a' ? 'b' : 'a' }
    const both = [...(running ? [{ ...running, runs: true }] : []), { ...(standby ?? empty), runs: false }]
    return { name, slots: both.sort((one, other) => (one.slot ?? '').localeCompare(other.slot ?? '')) }
  })
})
const RUNS: Record<string, string> = {
  'bench-build': 'A bench build: somebody works on it. No rollout overwrites it unasked.',
  'unknown-build': 'No release has these bytes: an unknown build. It is not overwritten unasked.',
  recovery: 'It runs its recovery image: nothing else on it may run. A release brought to it takes it out of there.',
  unreadable: 'It cannot read what it runs.',
}
function place(name: string, slot?: string): string {
  if (slot === 'recovery') return 'recovery image'
  if (slot === 'broken') return 'in pieces: needs a stream or a cable'
  if (!slot) return 'slot not told'
  return name.includes('/') ? `copy ${slot}` : `slot ${slot}`
}
const marks = computed(() => [
  ...(device.value?.cloned_at ? [`Two devices use its token, noticed ${moment(device.value.cloned_at)}. What the older history says is not taken.`] : []),
  ...(device.value?.rescued_at ? [`It came back rescued, noticed ${moment(device.value.rescued_at)}.`] : []),
])
const settling = ref<string | null>(null)

async function settle(reason: string) {
  device.value = await told(api.POST('/api/v1/devices/{serial}/settle', { params: { path: { serial: props.serial } }, body: { reason } }))
  settling.value = null
}
</script>

<template>
  <div class="page">
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <template v-if="device">
      <div class="row mb-4">
        <h1>{{ device.serial }}</h1>
        <span class="quiet">{{ device.board }} revision {{ device.hw_rev }}, line {{ device.line }}</span>
        <span v-if="device.on_bench" class="bench">bench device</span>
        <strong v-if="device.admission !== 'admitted'">{{ device.admission }}</strong>
        <span v-if="device.may_enrol_again" class="quiet">may enrol once more</span>
        <StateMark v-if="device.attempt" :state="device.attempt.state" class="push" />
        <div class="row" :class="{ push: !device.attempt }">
          <template v-if="device.admission === 'admitted'">
            <InstallHere :device="device" @done="reload" />
            <SwapSlots :device="device" @done="reload" />
            <PinHere :device="device" @done="reload" />
            <BenchHere :device="device" @done="reload" />
          </template>
          <DeviceActions :admission="device.admission" :devices="{ serials: [device.serial] }" :count="1" @done="reload" />
        </div>
      </div>
      <div class="columns two mb-5">
        <v-card class="panel">
          <h2>Components</h2>
          <div v-for="part in parts" :key="part.name" class="mb-2">
            <div v-if="parts.length > 1" class="quiet mb-1">{{ part.name }}</div>
            <div class="slots">
              <div v-for="slot in part.slots" :key="`${slot.slot}${slot.runs}`" class="slot" :class="{ runs: slot.runs }">
                <div class="quiet">{{ place(part.name, slot.slot) }} · {{ part.name.includes('/') ? (slot.runs ? 'in use' : 'kept beside') : slot.runs ? 'running' : 'standby' }}</div>
                <div class="number">{{ slot.version ?? (slot.digest ? 'no version' : 'empty') }}</div>
                <div class="mono quiet">{{ slot.digest?.slice(0, 24) }}{{ slot.digest ? '…' : '' }}</div>
                <div v-if="slot.digest" class="quiet">floor number {{ slot.floor }}</div>
              </div>
            </div>
          </div>
          <v-alert v-if="device.version_differs" type="warning" class="mt-3">
            version-differs: it says that it is {{ device.says_version }}; its bytes are {{ device.version }}, and they decide.
          </v-alert>
        <v-alert v-if="device.runs && RUNS[device.runs]" type="warning" class="mt-3">{{ RUNS[device.runs] }}</v-alert>
          <v-alert v-for="mark in marks" :key="mark" type="warning" class="mt-3">
            {{ mark }} <v-btn size="small" class="ml-2" @click="settling = 'settle'">settle …</v-btn>
          </v-alert>
          <ReasonDialog :word="settling" title="Take the marks off: you have seen to it" needs-reason :act="settle" @leave="settling = null" />
        </v-card>
        <v-card class="panel">
          <h2>What it says of itself</h2>
          <dl class="facts">
            <dt>Presence</dt>
            <dd v-if="device.cut_off" data-testid="cut-off">
              cut off by <router-link :to="`/fleet/${device.cut_off.by}`">{{ device.cut_off.by }}</router-link>, which restarts;
              {{ device.cut_off.expected_back ? `expected back ${device.cut_off.expected_back.slice(11, 19)}` : 'when it is back is not known' }}
            </dd>
            <dd v-else>{{ device.presence }}, heard {{ device.seen_at ? ago(Date.parse(device.seen_at), clock.now.getTime()) : 'never' }}</dd>
            <dt>Update</dt>
            <dd>
              <template v-if="device.obstacles?.length">cannot be updated: {{ device.obstacles.join('; ') }}</template>
              <template v-else>can be updated; {{ device.way_back ? 'can go back' : 'no way back' }} without a download<template v-if="device.standby_failed">: its other slot holds what went bad ({{ device.standby_failed }})</template></template>
            </dd>
            <template v-if="device.waiting">
              <dt>Waits for</dt>
              <dd>{{ device.waiting }}<template v-if="device.waiting_until">, expected {{ moment(device.waiting_until) }}</template></dd>
            </template>
            <template v-if="device.gateway">
              <dt>Gateway</dt>
              <dd><router-link :to="`/fleet/${device.gateway}`">{{ device.gateway }}</router-link> · <router-link to="/tree">tree</router-link></dd>
            </template>
            <template v-if="device.behind?.length">
              <dt>Behind it</dt>
              <dd><router-link v-for="one in device.behind" :key="one" :to="`/fleet/${one}`" class="mr-3 d-inline-block">{{ one }}</router-link></dd>
            </template>
            <dt>Next check-in</dt>
            <dd>expected {{ moment(device.next_checkin_at) }}, every {{ device.interval_s ?? '–' }} s</dd>
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
      <CoapHere v-if="device.transport === 'coap'" :id="device.id" :serial="device.serial" />
      <RadioHere v-if="device.transport === 'radio'" :id="device.id" :serial="device.serial" />
      <template v-if="!device.transport || device.transport === 'http'">
        <h2>Readings over time</h2>
        <v-card class="panel mb-5"><ReadingsHere :where="`serial = ${device.serial}`" :page="device.serial" :serial="device.serial" /></v-card>
      </template>
      <template v-if="device.parts?.length">
        <h2>Parts in its newest attempt</h2>
        <v-card class="mb-5"><PartsTable :parts="device.parts" /></v-card>
      </template>
      <template v-if="device.alarms?.length">
        <h2>Alarms, newest first</h2>
        <v-card class="panel mb-5"><AlarmLines :alarms="device.alarms" /></v-card>
      </template>
      <h2>Releases of its board</h2>
      <v-card class="panel mb-5"><DeviceReleases :id="device.id" :serial="device.serial" /></v-card>
      <h2>Both ends</h2>
      <v-card class="panel mb-5"><BothEnds :device="device" /></v-card>
      <h2>Timeline, newest first</h2>
      <v-card><TimelineTable :entries="device.timeline" show-rollout /></v-card>
    </template>
  </div>
</template>

<style scoped>
.bench {
  padding: 1px 8px;
  border: 1px solid var(--honey);
  border-radius: 8px;
}
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
