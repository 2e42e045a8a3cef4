<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told, type Release, type Schemas } from '../api/client'
import BaselineSwitch from '../components/BaselineSwitch.vue'
import CleanUnused from '../components/CleanUnused.vue'
import EmptyState from '../components/EmptyState.vue'
import LineageRiver from '../components/LineageRiver.vue'
import PublishDrop from '../components/PublishDrop.vue'
import ReleaseState from '../components/ReleaseState.vue'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { amount, headline, moment } from '../words'

const EVERY_MS = 5000
const releases = ref<Release[]>([])
const lineage = ref<Schemas['LineageOut'] | null>(null)
const chosen = ref('')
const filter = ref('')
const asked = ref('')
const wrong = ref('')

const lines = computed(() => [...new Set(releases.value.map((release) => `${release.board}/${release.line}`))].sort())
const baseline = computed(() => {
  const found = releases.value.find((release) => release.baseline && `${release.board}/${release.line}` === chosen.value)
  return found?.version ?? null
})
const shown = ref<Release[]>([])

const { failure, loaded, reload } = useLoading(async () => {
  releases.value = (await told(api.GET('/api/v1/releases', { params: { query: { limit: 500, order: 'version' } } }))).items
  if (!lines.value.includes(chosen.value)) chosen.value = busiest()
  await Promise.all([loadRiver(), pick()])
})

function busiest(): string {
  const running = (name: string) =>
    releases.value.filter((release) => `${release.board}/${release.line}` === name).reduce((all, release) => all + release.running, 0)
  return [...lines.value].sort((one, other) => running(other) - running(one))[0] ?? ''
}

async function loadRiver() {
  const [board, line] = chosen.value.split('/')
  lineage.value = board && line ? await told(api.GET('/api/v1/lineage/{board}/{line}', { params: { path: { board, line } } })) : null
}

async function pick() {
  wrong.value = ''
  if (!asked.value.trim()) {
    shown.value = releases.value
    return
  }
  try {
    const query = { limit: 500, where: asked.value, order: 'version' as const }
    shown.value = (await told(api.GET('/api/v1/releases', { params: { query } }))).items
  } catch (error) {
    wrong.value = (error as Error).message
  }
}

async function ask() {
  asked.value = filter.value
  await pick()
}

watch(chosen, loadRiver)
reloadOn((event) => ['release', 'device', 'rollout', 'admission'].includes(event.kind), reload, EVERY_MS)
</script>

<template>
  <div class="page">
    <div class="row mb-3">
      <h1 class="mb-0">Lineage</h1>
      <v-btn-toggle v-if="lines.length > 1" v-model="chosen" mandatory density="compact" class="push" aria-label="Line">
        <v-btn v-for="name in lines" :key="name" :value="name" size="small">{{ name.split('/')[1] }} on {{ name.split('/')[0] }}</v-btn>
      </v-btn-toggle>
    </div>
    <v-alert v-if="failure" type="error" class="mb-3">{{ failure }}</v-alert>
    <v-card v-if="lineage" class="panel mb-3">
      <LineageRiver :lineage="lineage" :baseline="baseline" />
      <BaselineSwitch :name="chosen" :baseline="baseline" />
    </v-card>
    <PublishDrop class="mb-3" @published="reload" />
    <v-card v-if="releases.length">
      <form class="filter" @submit.prevent="ask">
        <v-text-field
          v-model="filter"
          label="Filter, e.g. state = published and version > 2.4.0"
          density="compact"
          :error-messages="wrong"
          :hide-details="!wrong"
          clearable
          @click:clear="((filter = ''), ask())"
        />
        <span class="quiet">{{ shown.length }} of {{ releases.length }}</span>
        <CleanUnused @cleaned="reload" />
      </form>
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
            <th scope="col">Signed by</th>
            <th scope="col">Published</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="release in shown" :key="release.id">
            <td class="wrap">
              <router-link :to="`/lineage/${release.id}`"><strong>{{ release.version }}</strong></router-link>
              <div class="quiet">{{ headline(release.notes ?? '') }}</div>
            </td>
            <td>{{ release.line }}<div class="quiet">on {{ release.board }}</div></td>
            <td><ReleaseState :release="release" /></td>
            <td class="count">{{ release.running }}</td>
            <td class="count">{{ release.on_the_way }}</td>
            <td class="count text-no-wrap">{{ amount(release.size) }}</td>
            <td class="count">{{ release.floor }}</td>
            <td class="mono">{{ release.key }}</td>
            <td>
              <span class="text-no-wrap">{{ moment(release.published_at).slice(0, 16) }}</span>
              <div v-if="release.published_by" class="quiet">by {{ release.published_by }}</div>
            </td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-card v-else-if="loaded">
      <EmptyState title="Nothing is published yet" command="herald release publish IMAGE --key KEY.pem">
        Releases are signed where the key is, then sent here.
      </EmptyState>
    </v-card>
  </div>
</template>

<style scoped>
td {
  padding-block: 8px !important;
}
.filter {
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 12px 16px 4px;
}
.filter .quiet {
  white-space: nowrap;
}
</style>
