<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { age } from '../readings'
import { useClock } from '../stores/clock'
import { useStretch } from '../stretch'
import RecordingsHere from './RecordingsHere.vue'
import RowPlot from './RowPlot.vue'
import StretchBar from './StretchBar.vue'

/** What devices that a selector picks have sent: their newest values, and each signal over time. */
const props = defineProps<{ where: string; signals?: string[]; by?: 'device' | 'version' | 'hw_rev' | 'ring'; rollout?: number | null; page: string; serial?: string }>()
const clock = useClock()
const latest = ref<Schemas['LastValueOut'][]>([])
const { failure, reload } = useLoading(async () => {
  latest.value = await told(api.GET('/api/v1/readings/latest', { params: { query: { where: props.where, limit: 1000 } } }))
})
watch(() => props.where, reload)

const names = computed(() => props.signals ?? [...new Set(latest.value.map((one) => one.signal))])
const single = computed(() => new Set(latest.value.map((one) => one.serial)).size === 1)

const stretch = useStretch(3600, () => void reload())
const { range } = stretch
</script>

<template>
  <div data-testid="readings">
    <StretchBar :stretch="stretch" />
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
    <RowPlot v-for="name in names" :key="name" :signals="[name]" :where="where" :by="by" :rollout="rollout" :range="range" :page="page" @zoom="stretch.zoom" @back="stretch.back" />
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
