<script setup lang="ts">
import { ref } from 'vue'

import { api, told, type Release } from '../api/client'
import EmptyState from '../components/EmptyState.vue'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { amount, moment } from '../words'

const releases = ref<Release[]>([])
const { failure, loaded, reload } = useLoading(async () => {
  releases.value = (await told(api.GET('/api/v1/releases', { params: { query: { limit: 500 } } }))).items
})
reloadOn((event) => ['release', 'device', 'rollout'].includes(event.kind), reload, 1500)
</script>

<template>
  <div class="page">
    <h1 class="mb-3">Lineage</h1>
    <v-alert v-if="failure" type="error" class="mb-3">{{ failure }}</v-alert>
    <v-card v-if="releases.length">
      <v-table>
        <thead>
          <tr>
            <th scope="col">Version</th>
            <th scope="col">For</th>
            <th scope="col">State</th>
            <th scope="col" class="count">Running</th>
            <th scope="col" class="count">On the way</th>
            <th scope="col" class="count">Size</th>
            <th scope="col" class="count">Floor</th>
            <th scope="col">Image</th>
            <th scope="col">Signed by</th>
            <th scope="col">Published</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="release in releases" :key="release.id">
            <td class="wrap"><strong>{{ release.version }}</strong><div class="quiet">{{ release.description }}</div></td>
            <td>{{ release.line }}<div class="quiet">on {{ release.board }}</div></td>
            <td>{{ release.state }}</td>
            <td class="count">{{ release.running }}</td>
            <td class="count">{{ release.on_the_way }}</td>
            <td class="count text-no-wrap">{{ amount(release.size) }}</td>
            <td class="count">{{ release.floor }}</td>
            <td class="mono">{{ release.components[0]?.digest.slice(0, 12) }}…</td>
            <td class="mono">{{ release.key }}</td>
            <td><span class="text-no-wrap">{{ moment(release.published_at) }}</span><div class="quiet">by {{ release.published_by }}</div></td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-card v-else-if="loaded">
      <EmptyState title="Nothing is published yet" command="herald release publish IMAGE.bin --key KEY.pem">
        Releases are signed where the key is, then sent here.
      </EmptyState>
    </v-card>
  </div>
</template>

<style scoped>
td {
  padding-block: 8px !important;
}
</style>
