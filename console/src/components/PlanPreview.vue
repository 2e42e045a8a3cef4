<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { amount, lasted, moment } from '../words'

/** What a plan would do, ring by ring. */
const props = defineProps<{ preview: Schemas['PreviewOut'] }>()

const widest = computed(() => Math.max(1, ...props.preview.rings.map((ring) => ring.devices)))
function clock(at: string | null): string {
  if (!at) return 'never'
  const today = at.slice(0, 10) === props.preview.now.slice(0, 10)
  return today ? at.slice(11, 16) : moment(at).slice(5, 16)
}
function known(ring: Schemas['RingPreview']): Schemas['ForeseenOut'][] {
  return (ring.foreseen ?? []).filter((one) => one.unknown < ring.sampled)
}
function met(ring: Schemas['RingPreview']): string {
  const taken = ring.coverage.filter((one) => one.taken > 0).length
  return `meets ${taken} of ${ring.coverage.length} kinds by ${Object.keys(ring.coverage[0]?.values ?? {}).join(', ')}`
}
</script>

<template>
  <div class="numbers mb-4">
    <div><div class="number">{{ preview.targeted }}</div><span class="quiet">targeted</span></div>
    <div><div class="number">{{ preview.eligible }}</div><span class="quiet">eligible</span></div>
    <div><div class="number">{{ preview.targeted - preview.eligible }}</div><span class="quiet">passed over</span></div>
    <div><div class="number">{{ amount(preview.bytes) }}</div><span class="quiet">to move</span></div>
  </div>
  <v-alert v-for="warning in preview.warnings" :key="warning" type="warning" density="compact" class="mb-2">{{ warning }}</v-alert>
  <div v-for="ring in preview.rings" :key="ring.position" class="ring" :data-testid="`ring-${ring.position}`">
    <div class="row">
      <strong>{{ ring.position + 1 }} {{ ring.name }}</strong>
      <span class="push"><strong>{{ ring.devices }}</strong> devices</span>
    </div>
    <div class="bar"><span :style="{ width: `${(100 * ring.devices) / widest}%` }" /></div>
    <div class="times quiet">
      <span>opens <b>{{ clock(ring.opens) }}</b>{{ ring.by_hand ? ' by hand' : '' }}</span>
      <span>first sign <b>{{ ring.devices ? clock(ring.first_sign) : '–' }}</b></span>
      <span>through <b>{{ clock(ring.through) }}</b></span>
      <span>soaked <b>{{ clock(ring.done) }}</b></span>
    </div>
    <div class="times quiet">
      <span title="Devices that may be at risk at the same time">at risk ≤ <b>{{ ring.at_risk }}</b></span>
      <span title="Devices that run it, confirmed but still in their soak, before the next ring opens">in soak ≤ <b>{{ ring.unproven }}</b></span>
      <span title="The failure rate that this ring rules out if all of it is good">rules out <b>{{ ring.devices ? `${(100 * ring.rules_out).toFixed(1)} %` : '–' }}</b></span>
      <span>{{ Object.entries(ring.presence).map(([word, n]) => `${n} ${word}`).join(', ') }}</span>
    </div>
    <p v-if="known(ring).length" class="quiet foreseen" :data-testid="`foreseen-${ring.position}`">
      can switch in the next 24 h: <span v-for="one in known(ring)" :key="one.condition" :title="`expected ${one.expected.toFixed(1)}`">{{ one.condition }} <b>{{ one.low }}–{{ one.high }}</b> </span>
      <template v-if="known(ring)[0]?.unknown">({{ known(ring)[0]?.unknown }} of {{ ring.sampled }} have less than three days of history)</template>
    </p>
    <p v-else-if="ring.devices" class="quiet foreseen">who can switch when is not known yet: it takes three days of history</p>
    <details v-if="ring.devices">
      <summary class="quiet">{{ ring.coverage.length ? met(ring) : 'first devices' }}</summary>
      <p class="mono">{{ ring.first.map((device) => device.serial).join(' ') }}{{ ring.devices > ring.first.length ? ' …' : '' }}</p>
      <p v-for="one in ring.coverage" :key="JSON.stringify(one.values)" class="quiet">
        {{ Object.values(one.values).join(', ') }}: {{ one.taken }} of {{ one.eligible }}
      </p>
    </details>
  </div>
  <template v-if="preview.faults.length">
    <h2 class="mt-4">What a fault would cost</h2>
    <table class="faults">
      <thead>
        <tr>
          <th scope="col">a fault of</th>
          <th v-for="ring in preview.rings" :key="ring.position" scope="col" class="count">{{ ring.name }}</th>
          <th scope="col" class="count">halted</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="fault in preview.faults" :key="fault.times">
          <td>{{ fault.times }} × limit <span class="quiet">{{ Math.round(100 * fault.rate) }} %</span></td>
          <td v-for="(exposed, n) in fault.exposed" :key="n" class="count">
            <template v-if="exposed">{{ Math.round(exposed) }} <b>{{ Math.round(fault.hurt[n] ?? 0) }}</b></template><template v-else>–</template>
          </td>
          <td class="count">{{ Math.round(100 * fault.halted) }} %</td>
        </tr>
      </tbody>
    </table>
    <p class="quiet">Devices exposed, and <b class="hurt">hurt</b>, before the brake halts, on average over made-up runs in which it strikes every device alike.</p>
  </template>
  <template v-if="preview.arms?.length">
    <h2 class="mt-4">Two releases by lot</h2>
    <p v-for="arm in preview.arms" :key="arm.name" class="quiet" :data-testid="`by-lot-${arm.name}`"><b>{{ arm.devices }}</b> {{ arm.devices === 1 ? 'device gets' : 'devices get' }} {{ arm.name }} ({{ arm.release }}, {{ amount(arm.image_bytes) }})</p>
    <p class="quiet">Ring {{ preview.rings.at(-1)?.name }} waits until one of them is chosen.</p>
  </template>
  <template v-if="preview.budget">
    <h2 class="mt-4">Harm budget: at most {{ preview.budget.at_most }} devices hurt</h2>
    <p class="quiet" data-testid="budget">
      A good release takes <template v-for="(waves, n) in preview.budget.waves" :key="n">{{ n ? ', ' : '' }}<b>{{ waves }}</b> {{ waves === 1 ? 'wave' : 'waves' }} in {{ preview.rings[n]?.name }}</template>; done <b>{{ clock(preview.budget.done) }}</b>, without the budget {{ clock(preview.budget.done_without) }}.
    </p>
    <p v-for="words in preview.budget.words" :key="words" class="quiet">{{ words }}.</p>
  </template>
  <template v-for="one in preview.radio ?? []" :key="one.ring">
    <h2 class="mt-4">By radio, ring {{ one.ring }}: {{ one.devices }} devices at once</h2>
    <p class="quiet" :data-testid="`radio-${one.ring}`">
      <b>{{ amount(one.bytes) }}</b> in {{ one.fragments }} fragments of {{ one.fragment }} bytes and {{ one.redundancy }} % more ({{ one.coded }} of parity), {{ one.region }} data rate {{ one.data_rate }}: one every {{ one.apart_s.toFixed(2) }} s, about <b>{{ lasted(1000 * one.length_s) }}</b>, energy {{ one.energy }}.
      Earliest start <b>{{ clock(one.earliest) }}</b>, as {{ one.slowest }} speaks every {{ Math.round(one.slowest_s / 60) }} min; begins {{ clock(one.begins_at) }}, over about {{ clock(one.ends_at) }}.
      About <b>{{ Math.round(100 * one.expected_share) }} %</b> need no repair ({{ one.measured ? `loss measured of ${one.measured}` : 'no loss measured yet: 8 % in bursts of 5 assumed' }}).
    </p>
  </template>
  <template v-if="preview.passed_over.length">
    <h2 class="mt-4">Passed over</h2>
    <details v-for="one in preview.passed_over" :key="one.reason">
      <summary><strong>{{ one.devices }}</strong> {{ one.reason }}: <span class="quiet">{{ one.words }}</span></summary>
      <p class="mono">{{ one.first.join(' ') }}{{ one.devices > one.first.length ? ' …' : '' }}</p>
    </details>
  </template>
  <p v-for="(devices, name) in preview.overtaken" :key="name" class="mt-2">{{ devices }} waiting devices are taken over from “{{ name }}”.</p>
  <p class="quiet mt-4">
    Expected times rest on check-in intervals, {{ preview.rate ? `measured transfers of ${amount(Math.round(preview.rate))}/s` : 'an assumed 20 kB/s' }}, pace,
    windows and soak; they are UTC.
  </p>
</template>

<style scoped>
.foreseen {
  margin: 2px 0 0;
  font-size: 13px;
}
.foreseen span {
  margin-right: 6px;
}
.numbers {
  display: grid;
  grid-template-columns: repeat(4, auto);
  gap: 8px;
}
.ring {
  margin-bottom: 14px;
}
.bar {
  height: 8px;
  border-radius: 4px;
  background: rgba(var(--v-theme-on-surface), 0.08);
  margin: 4px 0;
}
.bar span {
  display: block;
  height: 100%;
  min-width: 2px;
  border-radius: 4px;
  background: var(--slate);
}
.times {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 16px;
  font-size: 13px;
  font-variant-numeric: tabular-nums;
}
.times b {
  font-weight: 600;
  color: rgb(var(--v-theme-on-surface));
}
.faults {
  font-size: 13px;
  border-collapse: collapse;
  font-variant-numeric: tabular-nums;
}
.faults th,
.faults td {
  padding: 2px 12px 2px 0;
  text-align: left;
}
.faults .count {
  text-align: right;
}
.faults b,
.hurt {
  color: var(--rose);
}
summary {
  cursor: pointer;
}
</style>
