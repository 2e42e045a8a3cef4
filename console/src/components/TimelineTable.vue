<script setup lang="ts">
import type { TimelineEntry } from '../api/client'
import { moment } from '../words'
import StateMark from './StateMark.vue'

defineProps<{ entries: TimelineEntry[]; showRollout?: boolean }>()

function particulars(entry: TimelineEntry): string {
  const all = entry.tests ?? []
  const failed = all.filter((test) => !test.passed).map((test) => `${test.name}: ${test.detail}`)
  const passed = all.length ? `${all.length} self-tests passed` : ''
  const tests = failed.length ? `self-test failed: ${failed.join(', ')}` : passed
  const percent = entry.percent === null || entry.percent === undefined ? '' : `${entry.percent} %`
  return [entry.component, entry.reason, entry.step, percent, tests, entry.detail].filter(Boolean).join(' · ')
}
</script>

<template>
  <v-table>
    <thead>
      <tr>
        <th scope="col">At (service time)</th>
        <th scope="col">Said by</th>
        <th v-if="showRollout" scope="col">Rollout</th>
        <th scope="col">State</th>
        <th scope="col">Particulars</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(entry, index) in entries" :key="index">
        <td class="text-no-wrap">{{ moment(entry.at) }}</td>
        <td>{{ entry.said_by }}</td>
        <td v-if="showRollout"><router-link v-if="entry.rollout_id" :to="`/rollouts/${entry.rollout_id}`">{{ entry.rollout_id }}</router-link></td>
        <td><StateMark v-if="entry.state" :state="entry.state" /><span v-else>{{ entry.what }}</span></td>
        <td class="wrap">
          {{ particulars(entry) }}
          <details v-if="entry.log"><summary>log</summary><pre class="mono">{{ entry.log }}</pre></details>
        </td>
      </tr>
    </tbody>
  </v-table>
</template>
