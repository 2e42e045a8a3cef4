<script setup lang="ts">
import type { Schemas } from '../api/client'
import StateMark from './StateMark.vue'

/** How the components of one device stand in an attempt. */
defineProps<{ parts: Schemas['PartOut'][] }>()
</script>

<template>
  <v-table>
    <thead>
      <tr>
        <th scope="col">Component</th>
        <th scope="col">State</th>
        <th scope="col">From</th>
        <th scope="col">To</th>
        <th scope="col">Was</th>
        <th scope="col">Is</th>
        <th scope="col">Particulars</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="part in parts" :key="part.name" :data-testid="`part-${part.name}`">
        <td>{{ part.name }}</td>
        <td><StateMark :state="part.state" /><template v-if="part.percent != null && part.state === 'downloading'"> {{ part.percent }} %</template></td>
        <td>{{ part.from_version ?? '–' }}</td>
        <td>{{ part.changes ? (part.to_version ?? '–') : 'runs it already' }}</td>
        <td class="mono quiet">{{ part.from_digest?.slice(0, 10) ?? '–' }}</td>
        <td class="mono quiet">{{ part.digest?.slice(0, 10) ?? '–' }}</td>
        <td class="wrap">
          <strong v-if="part.reason" class="bad">{{ part.reason }}</strong>
          <template v-if="part.detail">{{ part.reason ? ': ' : '' }}{{ part.detail }}</template>
          <span v-if="!part.reason && part.state === 'reverted'" class="quiet">went back with it</span>
        </td>
      </tr>
    </tbody>
  </v-table>
</template>

<style scoped>
.bad {
  color: var(--rose);
}
</style>
