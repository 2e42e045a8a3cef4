<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { bandOf, busy, goodOver, outside } from '../fan'
import { COLOURS } from '../states'
import { amount, moment } from '../words'
import FanChart from './FanChart.vue'

/** What one fault did in a rehearsal, or none; beside what came to pass, where there is a course. */
const props = defineProps<{ fault: Schemas['RehearsedFault']; beside?: Schemas['RehearsedFault'] | null; course?: Schemas['CoursePoint'][]; moved?: number }>()

/** Quantiles of a time: once where they are all the same, and the day once where it is. */
function times(spread: Schemas['TimeSpread']): string {
  const all = [spread.low, spread.middle, spread.high].map((at) => (at ? moment(new Date(Date.parse(at) + (props.moved ?? 0)).toISOString()).slice(5, 16) : 'never'))
  const days = new Set(all.map((one) => one.slice(0, 5)))
  if (new Set(all).size === 1) return all[0] ?? 'never'
  return all.map((one, n) => (n && days.size === 1 ? one.slice(6) : one)).join(' … ')
}
const numbers = (spread: Schemas['NumberSpread']) => (spread.low === spread.high ? String(Math.round(spread.middle)) : `${Math.round(spread.middle)} (${Math.round(spread.low)} … ${Math.round(spread.high)})`)
const percent = (share: number) => `${Math.round(100 * share)} %`
const good = computed(() => busy(bandOf(props.fault.fan, 'good', props.moved)))
const hurt = computed(() => busy(bandOf(props.fault.fan, 'hurt', props.moved)))
const real = computed(() => (props.course ? goodOver(props.course) : undefined))
const left = computed(() => (real.value ? outside(bandOf(props.fault.fan, 'good', props.moved), real.value) : 0))
</script>

<template>
  <section class="mb-4" :data-testid="`fault-${fault.fault}`">
    <h3>{{ fault.fault === 'none' ? 'Without a fault' : `With ${fault.fault}` }}</h3>
    <p>
      Done in <b>{{ percent(fault.finishes) }}</b> of all runs: {{ times(fault.done) }}<template v-if="beside"> <span class="quiet">(before: {{ times(beside.done) }})</span></template>; halted in {{ percent(fault.halts) }}.
      Hurt <b :class="{ bad: fault.hurt.high }">{{ numbers(fault.hurt) }}</b><template v-if="beside"> <span class="quiet">(before: {{ numbers(beside.hurt) }})</span></template> of {{ numbers(fault.exposed) }} exposed<template v-if="fault.hurt_unseen.high">, {{ numbers(fault.hurt_unseen) }} after their soak, unseen</template>.
    </p>
    <FanChart :band="good" :course="real" label="good" :colour="COLOURS.confirmed ?? '#4f8a5b'" />
    <p v-if="real" class="quiet">{{ left ? `What came to pass was outside the fan ${percent(left)} of the time.` : 'What came to pass stayed within the fan.' }}</p>
    <FanChart v-if="fault.hurt.high" :band="hurt" label="hurt" :colour="COLOURS.reverted ?? '#b3405b'" />
    <table class="rings">
      <thead>
        <tr>
          <th scope="col">ring</th>
          <th scope="col" class="count">devices</th>
          <th scope="col">opens</th>
          <th scope="col">done</th>
          <th scope="col" class="count">exposed</th>
          <th scope="col" class="count">hurt</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="ring in fault.rings" :key="ring.name">
          <td>{{ ring.name }}</td>
          <td class="count">{{ ring.devices }}</td>
          <td>{{ times(ring.opens) }}</td>
          <td>{{ times(ring.ends) }}</td>
          <td class="count">{{ numbers(ring.exposed) }}</td>
          <td class="count" :class="{ bad: ring.hurt.high }">{{ numbers(ring.hurt) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-for="one in fault.stands.filter((still) => still.share >= 0.005)" :key="one.words" class="asks">Ring {{ one.ring }} stands still in {{ percent(one.share) }}: {{ one.words }}.</p>
    <p v-for="one in fault.never.filter((never) => never.devices >= 0.5)" :key="one.words" class="quiet">Not reached: {{ Math.round(one.devices) }} on average{{ one.share == null ? '' : ` (${percent(one.share)})` }}, {{ one.words }}.</p>
    <p class="quiet">{{ amount(Math.round(fault.bytes.middle)) }} in all, {{ amount(Math.round(fault.peak.middle)) }} in the busiest hour.</p>
  </section>
</template>

<style scoped>
.rings {
  width: 100%;
  border-collapse: collapse;
  font-size: 13px;
}
.rings th,
.rings td {
  padding: 2px 8px 2px 0;
  text-align: left;
}
.rings .count {
  text-align: right;
}
.asks {
  color: var(--honey-ink);
}
</style>
