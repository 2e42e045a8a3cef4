<script setup lang="ts">
import { ref } from 'vue'

import { api, told, type DeviceDetail, type Release } from '../api/client'
import ReasonDialog from './ReasonDialog.vue'

/** Brings a release to one device at once. */
const props = defineProps<{ device: DeviceDetail }>()
const emit = defineEmits<{ done: [] }>()
const asked = ref<string | null>(null)
const releases = ref<Release[]>([])
const chosen = ref('')
const meant = ref<string[]>([])
const UNUSUAL = [
  { value: 'again', title: 'it runs it already: once more' },
  { value: 'older', title: 'older than what it runs' },
  { value: 'over_unknown_build', title: 'over a build that no release has' },
  { value: 'over_bench_build', title: 'over a bench build' },
]

async function open() {
  const { board, line } = props.device
  const where = `board = ${board} and line = ${line} and state = published`
  releases.value = (await told(api.GET('/api/v1/releases', { params: { query: { where, order: 'version', limit: 50 } } }))).items
  chosen.value = releases.value[0]?.name ?? ''
  meant.value = []
  asked.value = 'install'
}

async function act(reason: string) {
  const flags = Object.fromEntries(UNUSUAL.map(({ value }) => [value, meant.value.includes(value)]))
  const body = { release: chosen.value, reason, again: !!flags.again, older: !!flags.older, over_unknown_build: !!flags.over_unknown_build, over_bench_build: !!flags.over_bench_build }
  await told(api.POST('/api/v1/devices/{serial}/install', { params: { path: { serial: props.device.serial } }, body }))
  asked.value = null
  emit('done')
}
</script>

<template>
  <v-btn size="small" color="primary" variant="flat" @click="open">install a release</v-btn>
  <ReasonDialog :word="asked" :title="`Bring a release to ${device.serial}`" needs-reason fields-first :act="act" @leave="asked = null">
    <p class="mb-3">
      A rollout of this one device, at once: it does not wait for an owner who postponed, but for battery and safety it does.
      {{ device.way_back ? 'It can go back to what stands in its standby slot today, until that is overwritten.' : 'What it runs now becomes its way back, if it has two slots.' }}
    </p>
    <v-select v-model="chosen" :items="releases.map((release) => release.name)" label="Release" />
    <v-select v-model="meant" :items="UNUSUAL" label="Meant although unusual" multiple chips />
  </ReasonDialog>
</template>
