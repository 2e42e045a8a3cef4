<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, told, type Device, type Schemas } from '../api/client'
import DeviceActions from '../components/DeviceActions.vue'
import EmptyState from '../components/EmptyState.vue'
import LineageRiver from '../components/LineageRiver.vue'
import ReasonDialog from '../components/ReasonDialog.vue'
import SelectorField from '../components/SelectorField.vue'
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
const selections = ref<Schemas['SelectionOut'][]>([])
const over = ref(false)
const line = ref('')
const lines = ref<string[]>([])
const lineage = ref<Schemas['LineageOut'] | null>(null)
const picker = ref<HTMLInputElement | null>(null)
const file = ref<File | null>(null)
const report = ref<Schemas['ImportReport'] | null>(null)
const next = ref<string | null>(null)

const { failure, loaded, reload } = useLoading(async () => {
  const { now, scale } = await told(api.GET('/api/v1/overview'))
  clock.learn(now, scale)
  const page = await told(api.GET('/api/v1/devices', { params: { query: { ...asked(), limit: Math.max(PAGE, devices.value.length) } } }))
  devices.value = page.items
  next.value = page.next ?? null
  total.value = page.total ?? null
  selections.value = await told(api.GET('/api/v1/selections'))
})
reloadOn((event) => ['attempt', 'device', 'admission'].includes(event.kind), reload, 1500)

function asked() {
  const text = String(route.query.where ?? '').trim()
  return text ? { where: text } : {}
}

const exported = computed(() => `/api/v1/inventory?${new URLSearchParams(asked() as Record<string, string>)}`)

function pick(text: string) {
  where.value = text
  void router.push({ query: text.trim() ? { where: text.trim() } : {} })
}

watch([over, line], async () => {
  if (!over.value) return
  const { versions } = await told(api.GET('/api/v1/overview'))
  lines.value = [...new Set(versions.map((one) => `${one.board}/${one.line}`))]
  line.value ||= lines.value[0] ?? ''
  const [board, name] = line.value.split('/')
  if (board && name) lineage.value = await told(api.GET('/api/v1/lineage/{board}/{line}', { params: { path: { board, line: name } } }))
})

function choose() {
  const chosen = picker.value?.files?.[0]
  if (!chosen) return
  file.value = chosen
  void send(true).then((checked) => (report.value = checked)).catch((error: Error) => (failure.value = error.message))
  if (picker.value) picker.value.value = ''
}

async function send(check: boolean) {
  const format = file.value?.name.endsWith('.jsonl') ? 'jsonl' : 'csv'
  const body = file.value as unknown as string
  const headers = { 'content-type': format === 'csv' ? 'text/csv' : 'application/jsonl' }
  return told(api.POST('/api/v1/inventory', { params: { query: { format, check } }, body, headers, bodySerializer: (one: unknown) => one as BodyInit }))
}

async function take() {
  await send(false)
  report.value = null
  await reload()
}

async function more() {
  const page = await told(api.GET('/api/v1/devices', { params: { query: { ...asked(), limit: PAGE, after: next.value ?? undefined } } }))
  devices.value.push(...page.items)
  next.value = page.next ?? null
}

watch(
  () => route.query.where,
  async (text) => {
    where.value = String(text ?? '')
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
      <span class="push row">
        <v-btn size="small" @click="over = !over">{{ over ? 'hide' : 'show' }} versions over time</v-btn>
        <v-btn size="small" :href="exported" download>export CSV</v-btn>
        <v-btn size="small" @click="picker?.click()">import CSV …</v-btn>
        <input ref="picker" type="file" accept=".csv,.jsonl" hidden aria-label="Devices to import" @change="choose" />
      </span>
    </div>
    <SelectorField v-model="where" class="mb-3" @submit="pick(where)" />
    <div v-if="selections.length" class="row mb-3">
      <span class="quiet">Selections</span>
      <v-chip v-for="one in selections" :key="one.name" size="small" @click="pick(`@${one.name}`)">
        {{ one.name }}<template v-if="one.standing"> · {{ one.standing.current }} current, {{ one.standing.behind }} behind</template>
      </v-chip>
    </div>
    <v-card v-if="over && lineage" class="panel mb-3">
      <div class="row mb-2">
        <v-btn-toggle v-model="line" mandatory density="compact" aria-label="Line">
          <v-btn v-for="name in lines" :key="name" :value="name" size="small">{{ name.split('/')[1] }} on {{ name.split('/')[0] }}</v-btn>
        </v-btn-toggle>
      </div>
      <LineageRiver :lineage="lineage" :baseline="null" />
    </v-card>
    <ReasonDialog :word="report ? 'import' : null" title="Import devices" :needs-reason="false" :act="take" @leave="report = null">
      <template v-if="report">
        <p class="mb-3">{{ report.added }} new, {{ report.changed }} to change, {{ report.unchanged }} as they are, <strong>{{ report.refused }}</strong> lines refused.</p>
        <v-table v-if="report.refusals.length" density="compact" class="mb-3">
          <tbody>
            <tr v-for="one in report.refusals.slice(0, 20)" :key="one.line_number"><td class="count">{{ one.line_number }}</td><td>{{ one.serial }}</td><td class="wrap">{{ one.detail }}</td></tr>
          </tbody>
        </v-table>
      </template>
    </ReasonDialog>
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
              <span v-if="device.runs && device.runs !== 'release'" class="unknown">{{ device.runs.replace('-', ' ') }}</span>
            </td>
            <td>
              <template v-if="device.attempt">
                <StateMark :state="device.attempt.state" />
                <span class="quiet"> {{ device.waiting ? `waits for ${device.waiting}` : device.attempt.reason }}</span>
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
