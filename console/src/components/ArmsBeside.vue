<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Rollout, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { percent } from '../words'
import ReasonDialog from './ReasonDialog.vue'

/** Two releases that a rollout compares by lot: side by side, and the choice of one for the rest. */
const props = defineProps<{ rollout: Rollout }>()
const emit = defineEmits<{ done: [] }>()
type Arm = Schemas['ArmOut']
const seen = ref<Schemas['ComparisonOut'] | null>(null)
const chosen = ref<Arm | null>(null)

const { reload, failure } = useLoading(async () => {
  seen.value = await told(api.GET('/api/v1/rollouts/{rollout_id}/comparison', { params: { path: { rollout_id: props.rollout.id } } }))
})
reloadOn((event) => event.rollout_id === props.rollout.id, reload, 1500)

const mayChoose = computed(() => seen.value && !seen.value.chosen && ['running', 'held', 'halted'].includes(props.rollout.state))
const widest = computed(() => Math.max(0.05, ...(seen.value?.arms ?? []).filter((arm) => arm.counted).map((arm) => arm.high)))
function place(share: number): string {
  return `${(100 * Math.min(share, widest.value)) / widest.value}%`
}
type Reading = NonNullable<Schemas['ComparisonOut']['readings']>[number]
/** Where a value stands on a line that shows nought and the whole interval. */
function around(one: Reading, value: number): string {
  const [low, high] = [Math.min(0, one.low ?? 0), Math.max(0, one.high ?? 0)]
  const spare = (high - low || 1) * 0.06
  return `${(100 * (value - low + spare)) / (high - low + 2 * spare)}%`
}
function signed(value: number): string {
  return `${value > 0 ? '+' : ''}${Number(value.toPrecision(3))}`
}
async function choose(reason: string) {
  const params = { path: { rollout_id: props.rollout.id } }
  await told(api.POST('/api/v1/rollouts/{rollout_id}/choose', { params, body: { arm: chosen.value?.name ?? '', reason } }))
  chosen.value = null
  emit('done')
  await reload()
}
</script>

<template>
  <v-card id="arms" class="panel mb-5" data-testid="arms">
    <h2>Two releases by lot</h2>
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <template v-if="seen">
      <p :class="{ quiet: !seen.differ }" data-testid="arms-words">{{ seen.words }}.</p>
      <v-table density="compact">
        <thead>
          <tr>
            <th scope="col">arm</th>
            <th scope="col">release</th>
            <th scope="col" class="count">by lot</th>
            <th scope="col" class="count">exposed</th>
            <th scope="col" class="count">good</th>
            <th scope="col" class="count">bad</th>
            <th scope="col" class="count">undecided</th>
            <th scope="col" class="wide">bad, of those that count</th>
            <th scope="col"><span class="d-sr-only">do</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="arm in seen.arms" :key="arm.name" :data-testid="`arm-${arm.name}`">
            <td><strong>{{ arm.name }}</strong></td>
            <td>{{ arm.release }}</td>
            <td class="count">{{ arm.given }}</td>
            <td class="count">{{ arm.exposed }}</td>
            <td class="count">{{ arm.good }}</td>
            <td class="count" :class="{ bad: arm.bad }">{{ arm.bad }}</td>
            <td class="count">{{ arm.undecided }}</td>
            <td>
              <template v-if="arm.counted">
                <div class="span" aria-hidden="true">
                  <i :style="{ left: place(arm.low), right: `calc(100% - ${place(arm.high)})` }" />
                  <b :style="{ left: place(arm.counted_bad / arm.counted) }" />
                </div>
                <span class="quiet">{{ arm.counted_bad }} of {{ arm.counted }}: {{ percent(arm.counted_bad / arm.counted) }} ({{ percent(arm.low) }} … {{ percent(arm.high) }})</span>
              </template>
              <span v-else class="quiet">nothing counts yet</span>
            </td>
            <td>
              <strong v-if="seen.chosen === arm.name">chosen</strong>
              <v-btn v-else-if="mayChoose" size="small" variant="outlined" :aria-label="`Choose ${arm.name} for the rest`" @click="chosen = arm">choose</v-btn>
            </td>
          </tr>
        </tbody>
      </v-table>
      <v-table v-if="seen.readings?.length" density="compact" class="mt-3" data-testid="arms-readings">
        <thead>
          <tr>
            <th scope="col">after the switch, less before it</th>
            <th v-for="arm in seen.arms" :key="arm.name" scope="col" class="count">{{ arm.name }}</th>
            <th scope="col" class="wide">difference</th>
            <th scope="col">proven</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in seen.readings" :key="`${one.signal} ${one.measure}`">
            <td>{{ one.signal }}, {{ one.unit }}{{ one.measure === 'per-day' ? ' a day' : '' }}</td>
            <td v-for="(mean, n) in one.means" :key="n" class="count">{{ mean == null ? '–' : signed(mean) }} <span class="quiet">({{ one.devices[n] }} devices)</span></td>
            <td>
              <template v-if="one.difference !== null && one.low !== null && one.high !== null">
                <div class="span" aria-hidden="true">
                  <em :style="{ left: around(one, 0) }" />
                  <i :style="{ left: around(one, one.low), right: `calc(100% - ${around(one, one.high)})` }" />
                  <b :style="{ left: around(one, one.difference) }" />
                </div>
                <span class="quiet">{{ signed(one.difference) }} ({{ signed(one.low) }} … {{ signed(one.high) }})</span>
              </template>
              <span v-else class="quiet">too few to compare</span>
            </td>
            <td><strong v-if="one.differ">they differ</strong><span v-else class="quiet">nothing yet</span></td>
          </tr>
        </tbody>
      </v-table>
      <p class="quiet mt-2">Intervals hold with {{ percent(seen.confidence) }} at every look. Devices count in the order in which they were exposed, up to the first that is not decided.</p>
    </template>
    <ReasonDialog :word="chosen ? 'choose' : null" :title="`Choose ${chosen?.name} (${chosen?.release}) for the rest of rollout ${rollout.id}`" needs-reason :act="choose" @leave="chosen = null">
      <p class="mb-2">{{ seen?.words }}.</p>
      <p class="mb-4">Everybody who has no clearance yet, and the rings to come, get {{ chosen?.name }}. Who has switched to the other, or is about to, keeps it.</p>
    </ReasonDialog>
  </v-card>
</template>

<style scoped>
.wide {
  width: 34%;
}
.span {
  position: relative;
  height: 12px;
  margin-top: 4px;
  border-bottom: 1px solid var(--line, #d8d2c4);
}
.span i {
  position: absolute;
  top: 3px;
  height: 5px;
  border-radius: 3px;
  background: currentcolor;
  opacity: 0.3;
}
.span em {
  position: absolute;
  top: -2px;
  width: 1px;
  height: 15px;
  background: currentcolor;
}
.span b {
  position: absolute;
  top: 0;
  width: 3px;
  height: 11px;
  margin-left: -1px;
  background: var(--rose, #b3405b);
}
</style>
