<script setup lang="ts">
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, told, type Device } from '../api/client'
import DeviceActions from '../components/DeviceActions.vue'
import EmptyState from '../components/EmptyState.vue'
import StateMark from '../components/StateMark.vue'
import { useLoading } from '../loading'
import { useClock } from '../stores/clock'
import { reloadOn } from '../stores/feed'
import { ago } from '../words'

const PAGE = 100
const ASKING = 'admission = asking'
const route = useRoute()
const router = useRouter()
const clock = useClock()
const where = ref(String(route.query.where ?? ''))
const devices = ref<Device[]>([])
const total = ref<number | null>(null)
const next = ref<string | null>(null)

const { failure, loaded, reload } = useLoading(async () => {
  const { now, scale } = await told(api.GET('/api/v1/overview'))
  clock.learn(now, scale)
  const page = await told(api.GET('/api/v1/devices', { params: { query: { ...asked(), limit: Math.max(PAGE, devices.value.length) } } }))
  devices.value = page.items
  next.value = page.next ?? null
  total.value = page.total ?? null
})
reloadOn((event) => ['attempt', 'device', 'admission'].includes(event.kind), reload, 1500)

function asked() {
  const text = String(route.query.where ?? '').trim()
  return text ? { where: text } : {}
}

async function more() {
  const page = await told(api.GET('/api/v1/devices', { params: { query: { ...asked(), limit: PAGE, after: next.value ?? undefined } } }))
  devices.value.push(...page.items)
  next.value = page.next ?? null
}

watch(
  () => route.query.where,
  async () => {
    devices.value = []
    await reload()
  },
)
</script>

<template>
  <div class="page">
    <div class="row mb-3">
      <h1>Fleet</h1>
      <span v-if="total !== null" class="quiet">{{ devices.length }} of {{ total }} devices</span>
    </div>
    <form class="mb-3" @submit.prevent="router.push({ query: where.trim() ? { where: where.trim() } : {} })">
      <v-text-field
        v-model="where"
        label="Selector, then Enter"
        placeholder="board = comb-s1 and site in (fernhollow, quillmere)"
        hide-details
        clearable
        spellcheck="false"
      />
    </form>
    <v-alert v-if="failure" type="error" class="mb-3">{{ failure }}</v-alert>
    <div v-if="route.query.where === ASKING && total" class="row mb-3">
      <span>{{ total }} devices ask for admission.</span>
      <DeviceActions admission="asking" :devices="{ where: ASKING }" :count="total" class="push" @done="reload" />
    </div>
    <v-card v-if="devices.length">
      <v-table>
        <thead>
          <tr>
            <th scope="col">Serial</th>
            <th scope="col">Board</th>
            <th scope="col" class="count">Rev</th>
            <th scope="col">Site</th>
            <th scope="col">Yard</th>
            <th scope="col">Presence</th>
            <th scope="col">Heard</th>
            <th scope="col">Runs</th>
            <th scope="col">Newest attempt</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="device in devices" :key="device.id">
            <td><router-link :to="`/fleet/${device.serial}`">{{ device.serial }}</router-link></td>
            <td>{{ device.board }}</td>
            <td class="count">{{ device.hw_rev }}</td>
            <td>{{ device.labels.site }}</td>
            <td>{{ device.labels.yard }}</td>
            <td>{{ device.presence }}</td>
            <td class="quiet">{{ device.seen_at ? ago(Date.parse(device.seen_at), clock.now.getTime()) : 'never' }}</td>
            <td>
              {{ device.version ?? '–' }}
              <span v-if="device.known_build === false" class="unknown">unknown build</span>
            </td>
            <td>
              <template v-if="device.attempt">
                <StateMark :state="device.attempt.state" />
                <span class="quiet"> {{ device.attempt.reason }}</span>
              </template>
            </td>
          </tr>
        </tbody>
      </v-table>
      <div v-if="next" class="pa-3"><v-btn @click="more">Show {{ PAGE }} more</v-btn></div>
    </v-card>
    <v-card v-else-if="loaded && !failure">
      <EmptyState v-if="route.query.where" title="No device matches the selector">Change it, or clear it to see all.</EmptyState>
      <EmptyState v-else title="No devices yet" command="herald code new --board BOARD --line LINE">
        Devices come in with an enrolment code.
      </EmptyState>
    </v-card>
  </div>
</template>

<style scoped>
.unknown {
  color: var(--rose);
}
</style>
