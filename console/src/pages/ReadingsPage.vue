<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, told, type Schemas } from '../api/client'
import { BY, EVERYBODY, type By } from '../chartPage'
import EmptyState from '../components/EmptyState.vue'
import ReadingsHere from '../components/ReadingsHere.vue'
import SelectorField from '../components/SelectorField.vue'
import { useLoading } from '../loading'
import { useClock } from '../stores/clock'
import { reloadOn } from '../stores/feed'
import { age } from '../readings'
import { moment } from '../words'

const route = useRoute()
const router = useRouter()
const clock = useClock()
const signals = ref<Schemas['SignalOut'][]>([])
const charts = ref<Schemas['ChartPageOut'][]>([])
const listenings = ref<Schemas['ListeningOut'][]>([])
const where = ref(String(route.query.where ?? ''))
const asked = ref(where.value)
const by = ref<By>((route.query.by as By | undefined) ?? 'device')
const chosen = ref<string[]>(route.query.signals ? String(route.query.signals).split(',') : [])
const { failure, reload } = useLoading(async () => {
  ;[signals.value, listenings.value, charts.value] = await Promise.all([
    told(api.GET('/api/v1/signals', {})),
    told(api.GET('/api/v1/listenings', { params: { query: { over: false } } })),
    told(api.GET('/api/v1/chart_pages', {})),
  ])
  if (!chosen.value.length) chosen.value = [...new Set(signals.value.filter((one) => one.sent && one.kind === 'number' && one.declared).map((one) => one.name))].slice(0, 4)
})
reloadOn((event) => event.kind === 'listening', reload, 1000)
watch([asked, by, chosen], () => router.replace({ query: { where: asked.value || undefined, by: by.value, signals: chosen.value.join(',') || undefined } }))

const layout = computed(() => ({ path: '/readings/pages/new', query: { where: asked.value || undefined, by: by.value === 'ring' ? undefined : by.value, signals: chosen.value.join(',') || undefined } }))
const names = computed(() => [...new Set(signals.value.filter((one) => one.sent).map((one) => one.name))])

function listen(one: Schemas['ListeningOut']) {
  where.value = asked.value = one.where
  chosen.value = one.signals
}
</script>

<template>
  <div class="page">
    <div class="row mb-3">
      <h1>Readings</h1>
      <span class="quiet">{{ listenings.length ? (listenings.length === 1 ? 'one listening goes on' : `${listenings.length} listenings go on`) : 'nobody is listened to' }}</span>
    </div>
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <div class="row mb-3" data-testid="chart-pages">
      <span class="quiet">Chart pages:</span>
      <router-link v-for="one in charts" :key="one.id" :to="`/readings/pages/${one.id}`" :title="one.mine ? 'yours' : `${one.made_by}'s`">{{ one.name }}</router-link>
      <span v-if="!charts.length" class="quiet">none yet</span>
      <v-btn size="small" variant="outlined" :to="layout">Lay one out</v-btn>
    </div>
    <v-card class="panel mb-4">
      <div class="choose">
        <SelectorField v-model="where" @submit="asked = where" />
        <v-btn class="mt-1" @click="asked = where">Look</v-btn>
      </div>
      <div class="row mt-2">
        <v-select v-model="chosen" :items="names" label="Signals" multiple chips density="compact" hide-details class="pick" />
        <v-select v-model="by" :items="BY" label="A line for" density="compact" hide-details class="by" />
      </div>
      <ReadingsHere v-if="chosen.length" class="mt-4" :where="asked || EVERYBODY" :signals="chosen" :by="by" page="readings" />
      <EmptyState v-else-if="!names.length" title="No readings have come yet" command="herald signal listen --where 'site = fernhollow' --signals battery --every 10s --until 2h">
        Devices send what they are asked for. A board file declares what there is to ask for.
      </EmptyState>
    </v-card>
    <v-card v-if="listenings.length" class="panel mb-4" data-testid="listenings">
      <h2>Who is listened to</h2>
      <table class="lines">
        <thead>
          <tr><th scope="col" /><th scope="col" class="count">devices</th><th scope="col">which</th><th scope="col">signals</th><th scope="col">every</th><th scope="col">until</th><th scope="col">by</th><th scope="col" /></tr>
        </thead>
        <tbody>
          <tr v-for="one in listenings" :key="one.id">
            <td>{{ one.id }}</td>
            <td class="count">{{ one.devices }}</td>
            <td class="mono">{{ one.where }}</td>
            <td>{{ one.signals.join(', ') }}</td>
            <td>{{ one.period_s }} s</td>
            <td>{{ moment(one.until) }}</td>
            <td>{{ one.made_by }}</td>
            <td><v-btn size="small" @click="listen(one)">look</v-btn> <span v-if="one.trouble" class="quiet">{{ one.trouble }}</span></td>
          </tr>
        </tbody>
      </table>
    </v-card>
    <v-card v-if="signals.length" class="panel" data-testid="signals">
      <h2>What is and is not sent</h2>
      <table class="lines">
        <thead>
          <tr><th scope="col">board</th><th scope="col">signal</th><th scope="col">kind</th><th scope="col">unit</th><th scope="col" class="count">asked</th><th scope="col" class="count">sent by</th><th scope="col" class="count">lately</th><th scope="col" class="count">newest</th><th scope="col" /></tr>
        </thead>
        <tbody>
          <tr v-for="one in signals" :key="`${one.board}/${one.name}`">
            <td>{{ one.board }}</td>
            <td>{{ one.name }}</td>
            <td>{{ one.kind }}</td>
            <td>{{ one.unit }}</td>
            <td class="count">{{ one.asked }}</td>
            <td class="count">{{ one.sent }}</td>
            <td class="count" :class="{ short: one.asked > one.lately }">{{ one.lately }}</td>
            <td class="count">{{ one.last_at ? age((clock.now.getTime() - Date.parse(one.last_at)) / 1000) : 'never' }}</td>
            <td class="quiet">{{ one.declared ? one.description : 'nobody has declared it' }}</td>
          </tr>
        </tbody>
      </table>
    </v-card>
  </div>
</template>

<style scoped>
.choose {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 12px;
  align-items: start;
}
.pick {
  flex: 1;
}
.by {
  max-width: 170px;
}
.lines {
  width: 100%;
  border-collapse: collapse;
}
.lines th,
.lines td {
  padding: 3px 12px 3px 0;
  text-align: left;
}
.lines .count {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
.short {
  font-weight: 600;
}
</style>
