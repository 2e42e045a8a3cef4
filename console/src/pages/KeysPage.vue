<script setup lang="ts">
import { ref } from 'vue'

import { api, told, type Release, type Schemas } from '../api/client'
import EmptyState from '../components/EmptyState.vue'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { amount, moment } from '../words'

const keys = ref<Schemas['KeyListOut'] | null>(null)
const boards = ref<Schemas['BoardOut'][]>([])
const releases = ref<Release[]>([])
const MEANING: Record<string, string> = {
  active: 'signs new releases',
  retired: 'signs no more; what it signed stays good',
  revoked: 'nothing it signed is ever switched to again',
}
const { failure, loaded, reload } = useLoading(async () => {
  const newest = await api.GET('/api/v1/key_lists/newest')
  keys.value = newest.data ?? null
  boards.value = await told(api.GET('/api/v1/boards'))
  releases.value = (await told(api.GET('/api/v1/releases', { params: { query: { limit: 1000 } } }))).items
})
reloadOn((event) => ['keys', 'board', 'release'].includes(event.kind), reload)

function whereItRuns(board: Schemas['BoardOut']): string {
  if (board.runs === 'where-linked') return 'runs only where it is linked for: an image for each slot'
  if (board.runs === 'mapped') return `linked for ${address(board.run_address)}, where the boot loader maps the slot that it starts`
  return 'runs in any slot'
}

function address(at: number | null | undefined): string {
  return at === null || at === undefined ? '–' : `0x${at.toString(16).padStart(8, '0')}`
}

function signed(fingerprint: string): number {
  return releases.value.filter((release) => release.key === fingerprint).length
}
</script>

<template>
  <div class="page">
    <h1 class="mb-3">Keys and boards</h1>
    <v-alert v-if="failure" type="error" class="mb-3">{{ failure }}</v-alert>
    <h2>Keys</h2>
    <v-card v-if="keys" class="mb-5">
      <p class="panel quiet head">
        Key list {{ keys.number }}, published {{ moment(keys.published_at) }}, signed by root <span class="mono">{{ keys.root }}</span>. The
        service carries it and cannot make one; devices take only a higher number.
      </p>
      <v-table>
        <thead>
          <tr>
            <th scope="col">Fingerprint</th>
            <th scope="col">Name</th>
            <th scope="col">Status</th>
            <th scope="col">What that means</th>
            <th scope="col" class="count">Releases signed</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="key in keys.keys" :key="key.fingerprint">
            <td class="mono">{{ key.fingerprint }}</td>
            <td>{{ key.name }}</td>
            <td><strong :class="key.status">{{ key.status }}</strong></td>
            <td class="quiet wrap">{{ MEANING[key.status] }}</td>
            <td class="count">{{ signed(key.fingerprint) }}</td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-card v-else-if="loaded" class="mb-5">
      <EmptyState title="No key list yet" command="herald key publish --root ROOT.pem --active KEY.pub.pem">
        Until there is one, no signature can be checked and no release published.
      </EmptyState>
    </v-card>
    <h2>Boards</h2>
    <div class="columns boards">
      <v-card v-for="board in boards" :key="board.name" class="panel">
        <div class="row mb-2">
          <strong>{{ board.name }}</strong>
          <span class="quiet">{{ board.lines.join(', ') }}</span>
          <span class="push">{{ board.devices }} devices</span>
        </div>
        <dl class="facts mb-3">
          <dt>revisions</dt>
          <dd>{{ board.hw_revs.join(', ') }}</dd>
          <dt>checks in</dt>
          <dd>every {{ board.check_in }}<span v-for="one in board.check_in_exceptions" :key="one.where">; {{ one.every }} where {{ one.where }}</span></dd>
          <dt>code</dt>
          <dd>{{ whereItRuns(board) }}</dd>
          <dt>way back</dt>
          <dd>{{ board.single_slot ? 'none without a download: a single slot for app' : 'the other slot' }}</dd>
          <dt>vendor</dt>
          <dd>{{ board.vendor_domain }}</dd>
        </dl>
        <v-table>
          <thead>
            <tr><th scope="col">Slot</th><th scope="col">Component</th><th scope="col" class="count">Size</th><th scope="col">Address</th></tr>
          </thead>
          <tbody>
            <tr v-for="slot in board.slots" :key="slot.name">
              <td>{{ slot.name }}</td>
              <td>{{ slot.component }}</td>
              <td class="count">{{ amount(slot.size) }}</td>
              <td class="mono">{{ address(slot.address) }}</td>
            </tr>
          </tbody>
        </v-table>
      </v-card>
      <v-card v-if="loaded && !boards.length">
        <EmptyState title="No board yet" command="herald board add BOARD.toml">A board says which slots and revisions there are.</EmptyState>
      </v-card>
    </div>
  </div>
</template>

<style scoped>
.boards {
  grid-template-columns: repeat(auto-fill, minmax(430px, 1fr));
}
.head {
  padding-bottom: 8px;
}
.active {
  color: var(--sage-ink);
}
.retired {
  color: var(--stone-ink);
}
.revoked {
  color: var(--rose);
}
</style>
