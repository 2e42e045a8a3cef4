<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { RANGES, age, lately, type Range } from '../readings'
import { useClock } from '../stores/clock'
import RecordingsHere from './RecordingsHere.vue'
import SignalPlot from './SignalPlot.vue'

/** What devices that a selector picks have sent: their newest values, and each signal over time. */
const props = defineProps<{ where: string; signals?: string[]; by?: 'device' | 'version' | 'hw_rev' | 'ring'; rollout?: number | null; page: string; serial?: string }>()
const AGAIN_MS = 5000
const clock = useClock()
const latest = ref<Schemas['LastValueOut'][]>([])
const seconds = ref(3600)
const live = ref(true)
const range = ref<Range>(lately(3600, clock.now.getTime()))
const before = ref<Range[]>([])
const { failure, reload } = useLoading(async () => {
  latest.value = await told(api.GET('/api/v1/readings/latest', { params: { query: { where: props.where, limit: 1000 } } }))
})
watch(() => props.where, reload)

const names = computed(() => props.signals ?? [...new Set(latest.value.map((one) => one.signal))])
const single = computed(() => new Set(latest.value.map((one) => one.serial)).size === 1)

function choose(chosen: number) {
  seconds.value = chosen
  live.value = true
  before.value = []
  range.value = lately(chosen, clock.now.getTime())
}
function zoom(chosen: Range) {
  before.value.push(range.value)
  live.value = false
  range.value = chosen
}
function back() {
  const former = before.value.pop()
  if (former) range.value = former
  live.value = !before.value.length
}
const timer = window.setInterval(() => {
  if (!live.value || document.hidden) return
  range.value = lately(seconds.value, clock.now.getTime())
  void reload()
}, AGAIN_MS)
onBeforeUnmount(() => window.clearInterval(timer))
</script>

<template>
  <div data-testid="readings">
    <div class="row mb-2">
      <v-btn-toggle :model-value="live ? seconds : null" density="compact" variant="outlined" aria-label="How far back">
        <v-btn v-for="one in RANGES" :key="one.seconds" :value="one.seconds" size="small" @click="choose(one.seconds)">{{ one.title }}</v-btn>
      </v-btn-toggle>
      <span v-if="live" class="quiet">follows what comes in; drag over a plot to look closer</span>
      <template v-else>
        <span class="quiet" data-testid="stretch">
          {{ new Date(range.begin * 1000).toISOString().slice(5, 19).replace('T', ' ') }} to
          {{ new Date(range.end * 1000).toISOString().slice(5, 19).replace('T', ' ') }}
        </span>
        <v-btn size="small" @click="back">back</v-btn>
      </template>
    </div>
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <table v-if="single && latest.length" class="values mb-3">
      <thead>
        <tr><th scope="col">signal</th><th scope="col" class="count">now</th><th scope="col">unit</th><th scope="col" class="count">age</th><th scope="col" /></tr>
      </thead>
      <tbody>
        <tr v-for="one in latest" :key="one.signal">
          <td>{{ one.signal }}</td>
          <td class="count">{{ one.text ?? one.value }}</td>
          <td>{{ one.unit }}</td>
          <td class="count">{{ age((clock.now.getTime() - Date.parse(one.at)) / 1000) }}</td>
          <td class="quiet">{{ one.declared ? '' : 'nobody has declared it' }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="!names.length" class="quiet">
      Nothing has come yet. Ask for it: <code>herald signal listen --where '{{ where }}' --signals battery --every 10s --until 2h</code>
    </p>
    <SignalPlot v-for="name in names" :key="name" :signal="name" :where="where" :by="by" :rollout="rollout" :range="range" :page="page" @zoom="zoom" @back="back" />
    <RecordingsHere v-if="serial" :serial="serial" :range="range" class="mt-4" />
  </div>
</template>

<style scoped>
.values {
  border-collapse: collapse;
}
.values th,
.values td {
  padding: 2px 14px 2px 0;
  text-align: left;
}
.values .count {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
</style>
