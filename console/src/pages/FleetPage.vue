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
import { COLUMNS, labelColumn, turned, useColumns, type Column } from '../columns'
import { useLoading } from '../loading'
import { useClock } from '../stores/clock'
import { reloadOn } from '../stores/feed'
import { ago } from '../words'

const PAGE = 100
const MOST = 1000
const ASKING = 'admission = asking'
const route = useRoute()
const router = useRouter()
const clock = useClock()
const where = ref(String(route.query.where ?? ''))
const devices = ref<Device[]>([])
const total = ref<number | null>(null)
const about = ref(false)
const exact = ref(false)
const selections = ref<Schemas['SelectionOut'][]>([])
const over = ref(false)
const line = ref('')
const lines = ref<string[]>([])
const lineage = ref<Schemas['LineageOut'] | null>(null)
const picker = ref<HTMLInputElement | null>(null)
const file = ref<File | null>(null)
const report = ref<Schemas['ImportReport'] | null>(null)
const next = ref<string | null>(null)
const chosen = useColumns()
const labels = ref<string[]>([])
const order = computed(() => String(route.query.by ?? ''))
const offered = computed(() => [...COLUMNS, ...labels.value.map(labelColumn)])
// In the order of the list, labels before what devices say of themselves; a label that nobody has any more is left out.
const columns = computed(() => {
  const at = (column: Column) => (column.name.startsWith('label.') ? 2.5 : COLUMNS.indexOf(column))
  return offered.value.filter((column) => chosen.value.includes(column.name)).sort((one, other) => at(one) - at(other))
})

function sorted(by: string | undefined): 'ascending' | 'descending' | 'none' {
  if (!by) return 'none'
  return order.value === by ? 'ascending' : order.value === `-${by}` ? 'descending' : 'none'
}

function sort(by: string) {
  // By serial is how they are listed anyway.
  const next = by === 'serial' ? (order.value === '-serial' ? '' : '-serial') : turned(order.value, by)
  const { by: _, ...rest } = route.query
  void router.replace({ query: next ? { ...rest, by: next } : rest })
}

const { failure, loaded, reload } = useLoading(async () => {
  const page = await told(api.GET('/api/v1/devices', { params: { query: { ...asked(), ...counted(), limit: Math.min(MOST, Math.max(PAGE, devices.value.length)) } } }))
  devices.value = page.items
  next.value = page.next ?? null
  total.value = page.total ?? null
  about.value = page.about ?? false
  selections.value = await told(api.GET('/api/v1/selections'))
  const facts = await told(api.GET('/api/v1/facts'))
  labels.value = facts.filter((fact) => fact.kind === 'label').map((fact) => fact.name)
})
reloadOn((event) => ['attempt', 'device', 'admission'].includes(event.kind), reload, 1500)

function asked() {
  const text = String(route.query.where ?? '').trim()
  return { ...(text ? { where: text } : {}), ...(order.value ? { order: order.value } : {}) }
}

// That one number was asked for is no reason to wait for the next.
watch(() => route.query.where, () => (exact.value = false), { flush: 'sync' })

// Who is to be admitted is counted, never guessed.
function counted() {
  return exact.value || route.query.where === ASKING ? { exact: true } : {}
}

const exported = computed(() => `/api/v1/inventory?${new URLSearchParams(asked().where ? { where: asked().where ?? '' } : {})}`)

function pick(text: string) {
  where.value = text
  const by = order.value ? { by: order.value } : {}
  void router.push({ query: { ...by, ...(text.trim() ? { where: text.trim() } : {}) } })
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
  () => [route.query.where, route.query.by],
  async ([text]) => {
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
      <span v-if="total !== null" class="quiet">{{ devices.length }} of {{ about ? `about ${total.toLocaleString('en')}` : total }} devices</span>
      <v-btn v-if="about" size="small" variant="text" title="Count exactly; takes a second or two" @click="(exact = true), reload()">count</v-btn>
      <span class="push row">
        <v-btn size="small" to="/tree">Gateways</v-btn>
        <v-btn size="small" @click="over = !over">{{ over ? 'hide' : 'show' }} versions over time</v-btn>
        <v-menu :close-on-content-click="false">
          <template #activator="{ props: menu }"><v-btn size="small" v-bind="menu">columns …</v-btn></template>
          <v-card class="panel">
            <v-checkbox v-for="column in offered" :key="column.name" v-model="chosen" :value="column.name" :label="column.title" density="compact" hide-details />
          </v-card>
        </v-menu>
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
        <v-table v-if="report.changes.length" density="compact" class="mb-3">
          <thead>
            <tr><th scope="col">Serial</th><th scope="col">Changes</th><th scope="col">From</th><th scope="col">To</th></tr>
          </thead>
          <tbody>
            <template v-for="change in report.changes.slice(0, 20)" :key="change.serial">
              <tr v-for="(field, name) in change.fields" :key="name">
                <td>{{ change.serial }}</td><td>{{ name }}</td><td>{{ field.before ?? '–' }}</td><td>{{ field.after ?? '–' }}</td>
              </tr>
            </template>
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
            <th scope="col" :aria-sort="order === '-serial' ? 'descending' : order ? 'none' : 'ascending'">
              <button class="head" type="button" @click="sort('serial')">Serial</button>
            </th>
            <th v-for="column in columns" :key="column.name" scope="col" :class="{ count: column.count }" :aria-sort="sorted(column.order)">
              <button v-if="column.order" class="head" type="button" @click="sort(column.order)">
                {{ column.title }}<span aria-hidden="true">{{ { ascending: ' ↑', descending: ' ↓', none: '' }[sorted(column.order)] }}</span>
              </button>
              <template v-else>{{ column.title }}</template>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="device in devices" :key="device.id">
            <td><router-link :to="`/fleet/${device.serial}`">{{ device.serial }}</router-link></td>
            <td v-for="column in columns" :key="column.name" :class="{ count: column.count, quiet: column.name === 'heard', mono: column.name === 'digest' }">
              <template v-if="column.name.startsWith('label.')">{{ device.labels[column.name.slice(6)] }}</template>
              <template v-else-if="column.name === 'heard'">{{ device.seen_at ? ago(Date.parse(device.seen_at), clock.now.getTime()) : 'never' }}</template>
              <template v-else-if="column.name === 'runs'">
                {{ device.version ?? '–' }}
                <span v-if="device.runs && device.runs !== 'release'" class="unknown">{{ device.runs.replace('-', ' ') }}</span>
                <span v-if="device.version_differs" class="unknown" :title="`It says ${device.says_version} of itself; its bytes are ${device.version}.`">version-differs</span>
              </template>
              <template v-else-if="column.name === 'digest'">{{ device.digest?.slice(0, 12) }}</template>
              <template v-else-if="column.name === 'attempt'">
                <template v-if="device.attempt">
                  <StateMark :state="device.attempt.state" />
                  <span class="quiet ml-1">{{ device.waiting ? `waits for ${device.waiting}` : device.attempt.reason }}</span>
                </template>
              </template>
              <template v-else>{{ device[column.name as keyof Device] }}</template>
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
.head {
  padding: 0;
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  cursor: pointer;
}
.unknown {
  color: var(--rose);
}
</style>
