<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { moment } from '../words'
import ReasonDialog from './ReasonDialog.vue'

/** What is on record of a device's radio, corrected in place; its root key is written and never shown. */
const props = defineProps<{ id: number; serial: string }>()
const one = ref<Schemas['RadioDeviceOut'] | null>(null)
const asked = ref<string | null>(null)
const eui = ref('')
const minutes = ref(10)
const key = ref('')
const { failure, reload } = useLoading(async () => {
  one.value = await told(api.GET('/api/v1/radio/devices/{serial}', { params: { path: { serial: props.serial } } }))
})
reloadOn((event) => event.device_id === props.id || event.kind === 'device', reload, 1000)

const STANDS: Record<string, string> = {
  ready: 'it can take part in a session',
  'no-key': 'its root key is not on record: it is passed over',
  'no-packages': 'it lacks a package for clock, groups or fragments: it is passed over',
}
const facts = computed(() => {
  const found = one.value
  if (!found) return []
  const lost = found.lost === null ? 'not known yet' : `${(100 * found.lost).toFixed(1)} % in bursts of ${(found.burst ?? 1).toFixed(1)}`
  return [
    ['Sessions', STANDS[found.radio] ?? found.radio],
    ['EUI', found.eui],
    ['Region', `${found.region}, class ${found.device_class}, LoRaWAN ${found.lorawan}`],
    ['Speaks', `every ${found.interval_s} s, heard ${moment(found.heard_at)}${found.rssi === null ? '' : ` at ${found.rssi} dBm`}`],
    ['Clock set', moment(found.clock_at)],
    ['Lost last', lost],
    ['Root key', !found.has_key ? 'none' : found.key_proved_at ? `proved ${moment(found.key_proved_at)}` : 'on record, not proved by a session yet'],
  ]
})

function ask() {
  eui.value = one.value?.eui ?? ''
  minutes.value = Math.max(1, Math.round((one.value?.interval_s ?? 600) / 60))
  key.value = ''
  asked.value = 'record'
}

async function record(reason: string) {
  const told_key = key.value.trim().toLowerCase().replaceAll(/[-: ]/g, '')
  const entry = { serial: props.serial, eui: eui.value.trim().toLowerCase().replaceAll(/[-: ]/g, ''), interval_s: Math.round(Number(minutes.value) * 60), ...(told_key ? { root_key: told_key } : {}) }
  const report = await told(api.POST('/api/v1/radio/devices', { body: { devices: [entry], reason, check: false } }))
  if (report.refusals.length) throw new Error(report.refusals[0]?.detail)
  asked.value = null
  await reload()
}
</script>

<template>
  <v-card class="panel mb-5" data-testid="radio-facts">
    <div class="row">
      <h2>By narrow radio</h2>
      <v-btn size="small" class="push" @click="ask">correct …</v-btn>
    </div>
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <dl class="facts">
      <template v-for="[name, value] in facts" :key="name">
        <dt>{{ name }}</dt>
        <dd>{{ value }}</dd>
      </template>
    </dl>
    <ReasonDialog :word="asked" :title="`The radio of ${serial}`" needs-reason fields-first :act="record" @leave="asked = null">
      <v-text-field v-model="eui" label="EUI, 16 hex digits" />
      <v-text-field v-model="minutes" type="number" min="1" label="Speaks every, minutes" />
      <v-text-field v-model="key" type="password" autocomplete="off" label="Root key, 32 hex digits; empty: as it is" />
    </ReasonDialog>
  </v-card>
</template>
