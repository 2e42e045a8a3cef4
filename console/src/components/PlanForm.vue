<script setup lang="ts">
import { computed } from 'vue'

import type { PlanDocument, PlanRing } from '../plan'
import PlanApproval from './PlanApproval.vue'
import PlanHarm from './PlanHarm.vue'
import PlanArms from './PlanArms.vue'
import PlanRings from './PlanRings.vue'
import SelectorField from './SelectorField.vue'
import TargetList from './TargetList.vue'

/** A plan as a form, by who decides: the calendar, the device, the owner, the numbers. */
const plan = defineModel<PlanDocument>({ required: true })
defineProps<{ releases: string[] }>()

type Section = 'calendar' | 'order' | 'device' | 'owner' | 'pace' | 'numbers' | 'brake'
function set(values: Partial<PlanDocument>) {
  plan.value = { ...plan.value, ...values }
}
function put(section: Section, values: object) {
  plan.value = { ...plan.value, [section]: { ...(plan.value[section] as object | undefined), ...values } }
}
function whole(text: string): number | null {
  return text === '' || text === null ? null : Number(text)
}
const target = computed({ get: () => plan.value.target ?? '', set: (text: string) => set({ target: text }) })
const rings = computed({ get: () => (plan.value.rings ?? []) as PlanRing[], set: (value: PlanRing[]) => set({ rings: value }) })
const windows = computed(() => plan.value.calendar?.windows ?? [])
function setWindow(position: number, values: object) {
  put('calendar', { windows: windows.value.map((window, n) => (n === position ? { ...window, ...values } : window)) })
}
const readings = computed(() => plan.value.brake?.readings ?? [])
function setReading(position: number, values: object) {
  put('brake', { readings: readings.value.map((reading, n) => (n === position ? { ...reading, ...values } : reading)) })
}
const DAYS = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun']
</script>

<template>
  <div class="form">
    <section>
      <h2>What, and to whom</h2>
      <div class="two">
        <v-combobox :model-value="plan.release" :items="releases" label="Release" hide-details @update:model-value="(release) => set({ release: release ?? '' })" />
        <v-text-field :model-value="plan.name" label="Name of the rollout" hide-details @update:model-value="(name) => set({ name })" />
      </div>
      <SelectorField v-model="target" class="mt-2" />
      <div class="row mt-1"><TargetList :release="plan.release ?? ''" @target="(selector) => (target = selector)" /></div>
      <div class="two mt-2">
        <v-text-field :model-value="plan.leave_out" label="Leave out (selector)" hide-details @update:model-value="(text) => set({ leave_out: text || null })" />
        <v-select
          :model-value="plan.allow ?? []"
          :items="['again', 'older', 'unknown-builds', 'bench-builds']"
          label="Allow"
          multiple
          hide-details
          @update:model-value="(allow) => set({ allow })"
        />
      </div>
    </section>
    <section>
      <h2>Rings, from the inside out</h2>
      <PlanRings v-model="rings" />
      <PlanArms v-model="plan" :releases="releases" />
    </section>
    <section>
      <h2>The calendar decides</h2>
      <div class="three">
        <v-text-field :model-value="plan.calendar?.start" label="Start (empty: now)" placeholder="2026-11-24T09:00" hide-details @update:model-value="(start) => put('calendar', { start: start || null })" />
        <v-text-field :model-value="plan.calendar?.zone ?? 'UTC'" label="Time zone" hide-details @update:model-value="(zone) => put('calendar', { zone })" />
        <v-text-field :model-value="plan.calendar?.last_day" label="Last day" placeholder="2026-12-24" hide-details @update:model-value="(day) => put('calendar', { last_day: day || null })" />
      </div>
      <div v-for="(window, position) in windows" :key="position" class="window mt-2">
        <v-select :model-value="window.days ?? DAYS" :items="DAYS" label="Days" multiple hide-details @update:model-value="(days) => setWindow(position, { days })" />
        <v-text-field :model-value="window.begin" label="From" hide-details @update:model-value="(begin) => setWindow(position, { begin })" />
        <v-text-field :model-value="window.end" label="To" hide-details @update:model-value="(end) => setWindow(position, { end })" />
        <v-select :model-value="window.use ?? 'both'" :items="['both', 'fetch', 'switch']" label="For" hide-details @update:model-value="(use) => setWindow(position, { use })" />
        <v-btn size="small" variant="text" :aria-label="`Remove window ${position + 1}`" @click="put('calendar', { windows: windows.filter((_, n) => n !== position) })">remove</v-btn>
      </div>
      <div class="row mt-2">
        <v-btn size="small" @click="put('calendar', { windows: [...windows, { begin: '01:00', end: '05:00' }] })">Add a window</v-btn>
        <v-checkbox
          :model-value="plan.calendar?.zone_of === 'device'"
          label="in each device's own zone (label tz)"
          density="compact"
          hide-details
          @update:model-value="(own) => put('calendar', { zone_of: own ? 'device' : 'plan' })"
        />
      </div>
    </section>
    <section>
      <h2>The device decides</h2>
      <div class="three">
        <v-text-field
          type="number"
          :model-value="plan.device?.battery_at_least ?? 30"
          label="Battery at least, %"
          hide-details
          @update:model-value="(text) => put('device', { battery_at_least: whole(text) })"
        />
        <v-text-field :model-value="plan.device?.links?.join(' ')" label="Links (empty: any)" placeholder="wifi ethernet" hide-details @update:model-value="(text) => put('device', { links: text.split(/[\s,]+/).filter(Boolean) })" />
        <v-select :model-value="plan.switch ?? 'when-staged'" :items="['when-staged', 'at-restart']" label="Switches" hide-details @update:model-value="(value) => set({ switch: value })" />
        <v-select
          :model-value="plan.order?.switch ?? 'when-staged'"
          :items="['when-staged', 'in-window', 'all-staged']"
          label="Order: switches"
          hide-details
          title="all-staged: nobody switches before every member of its ring has staged"
          @update:model-value="(value) => put('order', { switch: value })"
        />
        <v-checkbox
          :model-value="plan.order?.keep_reachable ?? true"
          label="gateways after those behind them"
          density="compact"
          hide-details
          @update:model-value="(value) => put('order', { keep_reachable: value })"
        />
      </div>
      <div class="row">
        <v-checkbox :model-value="plan.device?.charging ?? false" label="only while it charges" density="compact" hide-details @update:model-value="(charging) => put('device', { charging })" />
        <v-checkbox :model-value="plan.device?.not_busy ?? true" label="not while it is busy" density="compact" hide-details @update:model-value="(value) => put('device', { not_busy: value })" />
        <v-checkbox :model-value="plan.log ?? false" label="sends its log" density="compact" hide-details @update:model-value="(log) => set({ log: log ?? false })" />
      </div>
    </section>
    <section>
      <h2>The owner decides</h2>
      <div class="three">
        <v-text-field type="number" :model-value="plan.owner?.may_postpone ?? 3" label="May postpone, times" hide-details @update:model-value="(text) => put('owner', { may_postpone: whole(text) })" />
        <v-text-field :model-value="plan.owner?.postpone_by ?? '1d'" label="Each time by" hide-details @update:model-value="(by) => put('owner', { postpone_by: by })" />
        <v-text-field :model-value="plan.owner?.contact" label="Contact shown" hide-details @update:model-value="(contact) => put('owner', { contact })" />
      </div>
      <v-text-field class="mt-2" :model-value="plan.owner?.message" label="Message shown" hide-details @update:model-value="(message) => put('owner', { message })" />
      <div class="row">
        <v-checkbox :model-value="plan.owner?.must_consent ?? false" label="must consent first" density="compact" hide-details @update:model-value="(value) => put('owner', { must_consent: value })" />
        <v-checkbox :model-value="plan.urgent ?? false" label="urgent: waits for nobody who postponed" density="compact" hide-details @update:model-value="(urgent) => set({ urgent: urgent ?? false })" />
      </div>
    </section>
    <section>
      <h2>The numbers decide</h2>
      <div class="three">
        <v-text-field type="number" clearable :model-value="plan.pace?.downloading_at_once" label="Downloading at once" hide-details @update:model-value="(text) => put('pace', { downloading_at_once: whole(text) })" />
        <v-text-field type="number" clearable :model-value="plan.pace?.at_risk_at_once" label="At risk at once" hide-details @update:model-value="(text) => put('pace', { at_risk_at_once: whole(text) })" />
        <v-text-field type="number" clearable :model-value="plan.brake?.hard_stop" label="Hard stop at bad devices" hide-details @update:model-value="(text) => put('brake', { hard_stop: whole(text) })" />
        <v-text-field type="number" :model-value="plan.numbers?.retries ?? 2" label="Retries" hide-details @update:model-value="(text) => put('numbers', { retries: whole(text) })" />
        <v-text-field :model-value="plan.numbers?.answer_within ?? '30m'" label="Answer within" hide-details @update:model-value="(text) => put('numbers', { answer_within: text })" />
        <v-text-field :model-value="plan.numbers?.trial_for ?? '30s'" label="On trial for" hide-details @update:model-value="(text) => put('numbers', { trial_for: text })" />
        <v-text-field :model-value="plan.numbers?.wait_at_most ?? '1d'" label="Waits at most" hide-details title="After so long of waiting for a condition a device holds its ring no longer" @update:model-value="(text) => put('numbers', { wait_at_most: text })" />
      </div>
      <v-checkbox :model-value="plan.numbers?.retry_bad ?? false" label="what ran and was found bad is tried again, too" density="compact" hide-details @update:model-value="(on) => put('numbers', { retry_bad: on })" />
      <h3 class="mt-4">The brake halts on evidence</h3>
      <div class="three">
        <v-text-field
          type="number"
          step="0.01"
          :model-value="plan.brake?.firmware_limit ?? 0.02"
          label="Firmware limit, share of exposed"
          hide-details
          @update:model-value="(text) => put('brake', { firmware_limit: whole(text) })"
        />
        <v-text-field
          type="number"
          step="0.01"
          :model-value="plan.brake?.delivery_limit ?? 0.1"
          label="Delivery limit, share of offered"
          hide-details
          @update:model-value="(text) => put('brake', { delivery_limit: whole(text) })"
        />
        <v-text-field :model-value="(plan.brake?.watch_by ?? ['hw_rev']).join(' ')" label="Watched value by value" placeholder="hw_rev site" hide-details @update:model-value="(text) => put('brake', { watch_by: text.split(/[\s,]+/).filter(Boolean) })" />
        <v-text-field type="number" :model-value="plan.brake?.min_good ?? 1" label="Good devices before the next ring" hide-details @update:model-value="(text) => put('brake', { min_good: whole(text) })" />
      </div>
      <div v-for="(reading, position) in readings" :key="position" class="window mt-2">
        <v-text-field :model-value="reading.name" label="Reading" hide-details @update:model-value="(name) => setReading(position, { name })" />
        <v-select :model-value="reading.worse" :items="['lower', 'higher']" label="Worse when" hide-details @update:model-value="(worse) => setReading(position, { worse })" />
        <v-text-field type="number" step="0.05" :model-value="reading.by ?? 0.2" label="By a share of" hide-details @update:model-value="(text) => setReading(position, { by: whole(text) })" />
        <v-text-field type="number" :model-value="reading.at_least ?? 0" label="And at least" hide-details @update:model-value="(text) => setReading(position, { at_least: whole(text) })" />
        <v-btn size="small" variant="text" :aria-label="`Remove reading ${position + 1}`" @click="put('brake', { readings: readings.filter((_, n) => n !== position) })">remove</v-btn>
      </div>
      <v-btn size="small" class="mt-2" @click="put('brake', { readings: [...readings, { name: 'free_memory', worse: 'lower' }] })">Watch a reading</v-btn>
      <PlanHarm v-model="plan" />
      <PlanApproval v-model="plan" />
      <v-checkbox :model-value="plan.latecomers ?? false" label="late comers are served after the last ring" density="compact" hide-details @update:model-value="(value) => set({ latecomers: value ?? false })" />
    </section>
  </div>
</template>

<style scoped>
section {
  margin-bottom: 22px;
}
.two,
.three,
.window {
  display: grid;
  gap: 8px;
  align-items: center;
}
.two {
  grid-template-columns: 1fr 1fr;
}
.three {
  grid-template-columns: 1fr 1fr 1fr;
}
.window {
  grid-template-columns: 2fr 1fr 1fr 1fr auto;
}
</style>
