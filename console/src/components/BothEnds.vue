<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'

import { api, told, type DeviceDetail, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { moment } from '../words'
import StateMark from './StateMark.vue'

/** What the service says of an attempt beside what the device says itself, as it comes. */
const props = defineProps<{ device: DeviceDetail }>()
const SHOWN = 200
const lines = ref<Schemas['LogLineOut'][]>([])
const left = ref<HTMLElement | null>(null)
const right = ref<HTMLElement | null>(null)

const { reload } = useLoading(async () => {
  const path = { serial: props.device.serial }
  lines.value = await told(api.GET('/api/v1/devices/{serial}/log', { params: { path, query: { limit: SHOWN } } }))
})
reloadOn((event) => event.kind === 'log' && event.device_id === props.device.id, reload, 200)

const said = computed(() =>
  props.device.timeline.filter((entry) => props.device.attempt && entry.attempt_id === props.device.attempt.id).reverse(),
)
watch([lines, said], async () => {
  await nextTick()
  for (const end of [left.value, right.value]) if (end) end.scrollTop = end.scrollHeight
})

async function ask(validFor: string | null) {
  await told(api.POST('/api/v1/devices/{serial}/log', { params: { path: { serial: props.device.serial } }, body: { valid_for: validFor } }))
  await reload()
}
defineExpose({ reload })
</script>

<template>
  <div class="ends">
    <section>
      <h3>What the service says</h3>
      <div ref="left" class="end" tabindex="0" aria-label="What the service says">
        <p v-if="!said.length" class="quiet">No attempt yet.</p>
        <div v-for="(entry, index) in said" :key="index" class="word">
          <span class="quiet">{{ moment(entry.at).slice(11) }}</span>
          <StateMark v-if="entry.state" :state="entry.state" /><span v-else>{{ entry.what }}</span>
          <span class="quiet">{{ [entry.reason, entry.step, entry.percent === null ? '' : `${entry.percent} %`, entry.detail].filter(Boolean).join(' · ') }}</span>
        </div>
      </div>
    </section>
    <section>
      <h3 class="row">
        What the device says
        <v-btn size="x-small" class="push" @click="ask(device.log_until ? null : '30m')">{{ device.log_until ? 'ask no longer' : 'ask for its log' }}</v-btn>
      </h3>
      <div ref="right" class="end mono" tabindex="0" aria-label="What the device says">
        <p v-if="!lines.length" class="quiet">It sends its log only while it is asked, or during an install.</p>
        <div v-for="line in lines" :key="line.id"><span class="quiet">{{ moment(line.at).slice(11) }}</span> {{ line.text }}</div>
      </div>
    </section>
  </div>
</template>

<style scoped>
.ends {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 18px;
}
h3 {
  margin: 0 0 6px;
  min-height: 24px;
  font-size: 14px;
}
.end {
  max-height: 190px;
  overflow-y: auto;
  font-size: 13px;
}
.word {
  display: flex;
  gap: 10px;
}
</style>
