<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told, type Release, type Schemas } from '../api/client'
import CheckLines from '../components/CheckLines.vue'
import ReleaseActions from '../components/ReleaseActions.vue'
import ReleaseNotes from '../components/ReleaseNotes.vue'
import ReleaseState from '../components/ReleaseState.vue'
import SignedManifest from '../components/SignedManifest.vue'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { amount, moment } from '../words'

const props = defineProps<{ id: number }>()
const release = ref<Release | null>(null)
const manifest = ref<Schemas['ManifestOut'] | null>(null)
const board = ref<Schemas['BoardOut'] | null>(null)

const { failure, reload } = useLoading(async () => {
  const params = { path: { release_id: props.id } }
  release.value = await told(api.GET('/api/v1/releases/{release_id}', { params }))
  manifest.value = await told(api.GET('/api/v1/releases/{release_id}/manifest', { params }))
  board.value = await told(api.GET('/api/v1/boards/{board}', { params: { path: { board: release.value.board } } }))
})
watch(() => props.id, reload)
reloadOn((event) => ['release', 'rollout', 'keys', 'device'].includes(event.kind), reload, 1500)

const worst = computed(() => (release.value?.checks ?? []).filter((check) => check.verdict !== 'pass').length)

function built(seconds: number): string {
  return seconds ? `${moment(new Date(seconds * 1000).toISOString()).slice(0, 16)} UTC` : '–'
}

function place(component: Release['components'][number]): string {
  if (component.slot === null || component.slot === undefined) return 'any slot'
  const own = board.value?.slots.filter((slot) => slot.component === component.name) ?? []
  return `slot ${own[component.slot]?.name ?? component.slot}`
}
</script>

<template>
  <div class="page">
    <v-alert v-if="failure" type="error" class="mb-3">{{ failure }}</v-alert>
    <template v-if="release">
      <div class="row mb-3">
        <router-link to="/lineage" class="quiet">Lineage</router-link>
        <h1 class="mb-0">{{ release.version }}</h1>
        <span class="quiet">{{ release.line }} on {{ release.board }}</span>
        <ReleaseState :release="release" />
        <ReleaseActions :release="release" class="push" @done="reload" />
      </div>
      <v-alert v-if="release.state === 'withdrawn'" type="error" class="mb-3">
        Withdrawn {{ moment(release.withdrawn_at) }} by {{ release.withdrawn_by }}: {{ release.withdrawn_why }}
      </v-alert>
      <v-alert v-if="manifest?.key_status === 'revoked'" type="error" class="mb-3">
        Its key {{ release.key }} is revoked: no device switches to it any more.
      </v-alert>
      <div class="two mb-3">
        <v-card class="panel">
          <div class="numbers mb-3">
            <div><div class="number">{{ release.running }}</div><div class="quiet">run it now</div></div>
            <div v-if="release.version_differs">
              <div class="number">{{ release.version_differs }}</div>
              <div class="quiet" title="The bytes are these; the version that they say of themselves is another.">of them: version-differs</div>
            </div>
            <div><div class="number">{{ release.on_the_way }}</div><div class="quiet">on the way</div></div>
            <div><div class="number">{{ release.floor }}</div><div class="quiet">floor number</div></div>
            <div><div class="number text-no-wrap">{{ amount(release.size) }}</div><div class="quiet">in {{ release.components.length === 1 ? 'one image' : `${release.components.length} images` }}</div></div>
          </div>
          <dl class="facts">
            <dt>uploaded</dt>
            <dd>{{ moment(release.uploaded_at) }} by {{ release.uploaded_by }}</dd>
            <template v-if="release.published_at">
              <dt>published</dt>
              <dd>{{ moment(release.published_at) }} by {{ release.published_by }}</dd>
            </template>
            <dt>signed by</dt>
            <dd><span class="mono">{{ release.key }}</span> {{ manifest?.key_name }}</dd>
            <template v-if="board?.single_slot">
              <dt>way back</dt>
              <dd>none without a download: {{ board.name }} has a single slot for app</dd>
            </template>
          </dl>
        </v-card>
        <ReleaseNotes :release="release" @done="reload" />
      </div>
      <v-card class="panel mb-3">
        <h2>Checks at publishing<span v-if="worst" class="quiet"> · {{ worst }} to think about</span></h2>
        <CheckLines v-if="release.checks?.length" :checks="release.checks" />
        <p v-else class="quiet">It was published before checks were kept.</p>
      </v-card>
      <v-card class="mb-3">
        <v-table>
          <thead>
            <tr>
              <th scope="col">Component</th>
              <th scope="col">Version</th>
              <th scope="col">For</th>
              <th scope="col" class="count">Size</th>
              <th scope="col">Nameplate</th>
              <th scope="col">Build</th>
              <th scope="col">Built</th>
              <th scope="col">Linked for</th>
              <th scope="col">SHA-256</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="component in release.components" :key="`${component.name}/${component.slot}`">
              <td><strong>{{ component.name }}</strong></td>
              <td>{{ component.version }}</td>
              <td>{{ place(component) }}</td>
              <td class="count">{{ amount(component.size) }}</td>
              <td>{{ component.read ? 'read from the bytes' : 'stated by hand' }}</td>
              <td class="mono">{{ component.build_id || '–' }}</td>
              <td>{{ built(component.build_time ?? 0) }}</td>
              <td class="mono">{{ component.address === null || component.address === undefined ? '–' : `0x${component.address.toString(16)}` }}</td>
              <td class="mono wrap">{{ component.digest }}<span v-if="component.failed_on" class="failed"> failed on {{ component.failed_on }} {{ component.failed_on === 1 ? 'device' : 'devices' }}</span></td>
            </tr>
          </tbody>
        </v-table>
      </v-card>
      <SignedManifest v-if="manifest" :release="release" :manifest="manifest" />
    </template>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 14px;
}
.numbers {
  display: flex;
  gap: 34px;
}
</style>
