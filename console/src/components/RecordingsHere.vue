<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import type { Range } from '../readings'
import { useClock } from '../stores/clock'
import { reloadOn } from '../stores/feed'
import { amount, grouped, moment } from '../words'

/** Recordings of one device: what it has kept at full rate of the stretch that is looked at. */
const props = defineProps<{ serial: string; range: Range }>()
const AGAIN_MS = 2000
const AT_MOST = 16 * 1024 * 1024
const FORMS = [
  { form: 'csv', title: 'CSV' },
  { form: 'jsonl', title: 'JSON Lines' },
  { form: 'netcdf', title: 'NetCDF' },
]
const clock = useClock()
const found = ref<Schemas['RecordingOut'][]>([])
const refused = ref('')
const asking = ref(false)
const { failure, reload } = useLoading(async () => {
  found.value = await told(api.GET('/api/v1/recordings', { params: { query: { where: `serial = ${props.serial}` } } }))
})
reloadOn((event) => event.kind === 'recording', reload, 500)
watch(() => props.serial, reload)
const open = computed(() => found.value.some((one) => one.state === 'asked' || one.state === 'coming'))

async function ask() {
  asking.value = true
  refused.value = ''
  try {
    const from = new Date(props.range.begin * 1000).toISOString()
    const to = new Date(Math.min(props.range.end * 1000, clock.now.getTime())).toISOString()
    await told(api.POST('/api/v1/devices/{serial}/recordings', { params: { path: { serial: props.serial } }, body: { from, to, at_most: AT_MOST } }))
    await reload()
  } catch (error) {
    refused.value = error instanceof Error ? error.message : String(error)
  } finally {
    asking.value = false
  }
}
async function cancel(number: number) {
  refused.value = ''
  try {
    await told(api.POST('/api/v1/recordings/{number}/cancel', { params: { path: { number } }, body: { reason: 'cancelled on the page' } }))
    await reload()
  } catch (error) {
    refused.value = error instanceof Error ? error.message : String(error)
  }
}
/** How far it is, or why there is none. */
function standing(one: Schemas['RecordingOut']): string {
  if (one.state === 'asked' && one.called_at && one.called_at > one.asked_at) return 'it has called since, and said nothing of it: does its firmware know recordings?'
  if (one.state === 'asked') return 'asked for; it learns of it when it next calls'
  if (one.state === 'coming') return `${amount(one.have)} of ${amount(one.size ?? 0)}`
  if (one.state === 'complete') return `${amount(one.size ?? 0)}, ${grouped(one.samples ?? 0)} values`
  return [one.state, one.reason, one.detail].filter(Boolean).join(': ')
}
const timer = window.setInterval(() => {
  if (open.value && !document.hidden) void reload()
}, AGAIN_MS)
onBeforeUnmount(() => window.clearInterval(timer))
</script>

<template>
  <section data-testid="recordings">
    <div class="row mb-2">
      <h3>Recordings</h3>
      <v-btn size="small" :loading="asking" @click="ask">Ask for this stretch at full rate</v-btn>
      <span class="quiet">what the device has kept itself; it comes in parts, as its link allows</span>
    </div>
    <v-alert v-if="failure || refused" type="error" density="compact" class="mb-2">{{ refused || failure }}</v-alert>
    <table v-if="found.length" class="lines">
      <thead>
        <tr><th scope="col" /><th scope="col">from</th><th scope="col">to</th><th scope="col">how far</th><th scope="col">asked by</th><th scope="col" /></tr>
      </thead>
      <tbody>
        <tr v-for="one in found" :key="one.id">
          <td>{{ one.id }}</td>
          <td>{{ moment(one.begins) }}</td>
          <td>{{ moment(one.ends) }}</td>
          <td>
            <v-progress-linear v-if="one.state === 'coming'" :model-value="(100 * one.have) / (one.size ?? 1)" :aria-label="`recording ${one.id}`" height="4" class="mb-1" />
            {{ standing(one) }}
          </td>
          <td>{{ one.asked_by }}</td>
          <td class="row">
            <template v-if="one.state === 'complete'">
              <a v-for="each in FORMS" :key="each.form" :href="`/api/v1/recordings/${one.id}/file?format=${each.form}`">{{ each.title }}</a>
            </template>
            <v-btn v-else-if="one.state === 'asked' || one.state === 'coming'" size="small" @click="cancel(one.id)">cancel</v-btn>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.lines {
  width: 100%;
  border-collapse: collapse;
}
.lines th,
.lines td {
  padding: 3px 12px 3px 0;
  text-align: left;
  vertical-align: top;
}
</style>
