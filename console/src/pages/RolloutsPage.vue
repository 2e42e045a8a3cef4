<script setup lang="ts">
import { ref } from 'vue'

import { api, told, type Rollout } from '../api/client'
import EmptyState from '../components/EmptyState.vue'
import RolloutState from '../components/RolloutState.vue'
import StateBar from '../components/StateBar.vue'
import { useLoading } from '../loading'
import { total, type Counts } from '../states'
import { reloadOn } from '../stores/feed'
import { brings, listed, moment } from '../words'

const rollouts = ref<Rollout[]>([])
const { failure, loaded, reload } = useLoading(async () => {
  rollouts.value = (await told(api.GET('/api/v1/rollouts', { params: { query: { limit: 200 } } }))).items
})
reloadOn((event) => event.rollout_id !== null, reload, 800)
</script>

<template>
  <div class="page">
    <div class="row mb-3">
      <h1>Rollouts</h1>
      <v-btn class="push" color="primary" variant="flat" size="small" to="/plan">Plan a rollout</v-btn>
    </div>
    <v-alert v-if="failure" type="error" class="mb-3">{{ failure }}</v-alert>
    <v-card v-if="rollouts.length">
      <v-table>
        <thead>
          <tr>
            <th scope="col" class="count">No.</th>
            <th scope="col">Name</th>
            <th scope="col">State</th>
            <th scope="col" width="220">Attempts</th>
            <th scope="col" class="count">Confirmed</th>
            <th scope="col" class="count">Ever bad</th>
            <th scope="col" class="count">Passed over</th>
            <th scope="col">Started</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="rollout in rollouts" :key="rollout.id">
            <td class="count">{{ rollout.id }}</td>
            <td class="wrap name">
              <router-link :to="`/rollouts/${rollout.id}`">{{ rollout.name }}</router-link>
              <div class="quiet">{{ brings(rollout) }}</div>
            </td>
            <td><RolloutState :rollout="rollout" /></td>
            <td><StateBar :counts="rollout.states as Counts" /></td>
            <td class="count">{{ rollout.states.confirmed ?? 0 }} of {{ total(rollout.states as Counts) }}</td>
            <td class="count" :title="listed(rollout.harm)" :class="{ bad: rollout.ever_bad }">{{ rollout.ever_bad }}</td>
            <td class="count">{{ Object.values(rollout.passed_over).reduce((a, b) => a + b, 0) }}</td>
            <td class="text-no-wrap">{{ moment(rollout.started_at) }}</td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-card v-else-if="loaded">
      <EmptyState title="No rollout yet" command="herald rollout start PLAN.toml">
        A <router-link to="/plan">plan</router-link> says which release goes to which devices, and how.
      </EmptyState>
    </v-card>
  </div>
</template>

<style scoped>
.v-table td.name {
  min-width: 280px;
}
.bad {
  color: var(--rose);
}
</style>
