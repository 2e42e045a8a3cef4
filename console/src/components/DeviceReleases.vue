<script setup lang="ts">
import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { moment } from '../words'
import StateMark from './StateMark.vue'
import { ref } from 'vue'

/** Which releases of its board a device could take, or why not; and what it was brought, by which rollout. */
const props = defineProps<{ serial: string; id: number }>()
const found = ref<Schemas['DeviceReleases'] | null>(null)
const { failure, reload } = useLoading(async () => {
  found.value = await told(api.GET('/api/v1/devices/{serial}/releases', { params: { path: { serial: props.serial } } }))
})
// A ring that opens gives devices their attempts, and says so of the rollout alone.
reloadOn((event) => event.device_id === props.id || event.kind === 'release' || event.kind === 'rollout', reload, 1500)
</script>

<template>
  <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
  <div v-if="found" class="columns two">
    <div>
      <h3>Could take</h3>
      <p v-if="!found.releases.length" class="quiet">Its board has no release yet: herald release publish FILE --key KEY.</p>
      <v-table v-else>
        <thead>
          <tr><th scope="col">Version</th><th scope="col">Line</th><th scope="col">It</th></tr>
        </thead>
        <tbody>
          <tr v-for="one in found.releases" :key="one.id">
            <td><router-link :to="`/releases/${one.id}`">{{ one.version }}</router-link></td>
            <td>{{ one.line }}</td>
            <td class="wrap">
              <span v-if="one.could_take" class="good">could take it</span>
              <template v-else-if="one.runs_it">runs it</template>
              <template v-else>{{ one.why }} <span class="quiet" :title="one.mend">{{ one.reason }}</span></template>
            </td>
          </tr>
        </tbody>
      </v-table>
    </div>
    <div>
      <h3>Was brought, newest first</h3>
      <p v-if="!found.history.length" class="quiet">Nothing yet.</p>
      <v-table v-else>
        <thead>
          <tr><th scope="col">At</th><th scope="col">Version</th><th scope="col">From</th><th scope="col">Came to</th><th scope="col" class="count">Rollout</th></tr>
        </thead>
        <tbody>
          <tr v-for="one in found.history" :key="`${one.rollout_id}/${one.at}`">
            <td class="text-no-wrap">{{ moment(one.at).slice(5, 16) }}</td>
            <td>{{ one.release.split('/')[2] }}<span v-if="one.scratch" class="quiet"> bench build</span></td>
            <td>{{ one.from_version ?? '?' }}</td>
            <td><StateMark :state="one.state" /> <span class="quiet">{{ one.reason }}</span></td>
            <td class="count"><router-link :to="`/rollouts/${one.rollout_id}`" :title="one.rollout">{{ one.rollout_id }}</router-link></td>
          </tr>
        </tbody>
      </v-table>
    </div>
  </div>
</template>

<style scoped>
h3 {
  margin: 0 0 6px;
  font-size: 14px;
}
.two {
  grid-template-columns: minmax(0, 1fr) minmax(0, 1.4fr);
}
.v-table :is(td, th) {
  padding: 0 8px !important;
}
.good {
  color: var(--sage-ink);
}
</style>
