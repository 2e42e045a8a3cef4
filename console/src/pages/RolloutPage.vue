<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told, type Attempt, type FeedEvent, type Rollout, type TimelineEntry } from '../api/client'
import ActOnRollout from '../components/ActOnRollout.vue'
import RingArcs from '../components/RingArcs.vue'
import RolloutState from '../components/RolloutState.vue'
import StateBar from '../components/StateBar.vue'
import StateMark from '../components/StateMark.vue'
import TimelineTable from '../components/TimelineTable.vue'
import { useLoading } from '../loading'
import { STATES, total, type Counts } from '../states'
import { reloadOn, useFeed } from '../stores/feed'
import { moment } from '../words'

const PAGE = 200
const LATEST = 8
const props = defineProps<{ id: number }>()
const rollout = ref<Rollout | null>(null)
const attempts = ref<Attempt[]>([])
const more = ref(false)
const filter = ref<string | null>(null)
const latest = ref<FeedEvent[]>([])
const looked = ref<{ attempt: Attempt; entries: TimelineEntry[] } | null>(null)

const { failure, reload } = useLoading(async () => {
  const path = { rollout_id: props.id }
  const query = { limit: PAGE, state: (filter.value ?? undefined) as Attempt['state'] | undefined }
  const [shown, page] = await Promise.all([
    told(api.GET('/api/v1/rollouts/{rollout_id}', { params: { path } })),
    told(api.GET('/api/v1/rollouts/{rollout_id}/attempts', { params: { path, query } })),
  ])
  rollout.value = shown
  attempts.value = page.items
  more.value = page.next != null
})
reloadOn((event) => event.rollout_id === props.id, reload)
watch(filter, reload)
useFeed().listen((event) => {
  if (event.rollout_id !== props.id || !worthTelling(event)) return
  latest.value = [event, ...latest.value].slice(0, LATEST)
})

const counts = computed(() => (rollout.value?.states ?? {}) as Counts)
const present = computed(() => STATES.filter((state) => counts.value[state]))

function worthTelling(event: FeedEvent): boolean {
  return event.kind === 'rollout' || (event.kind === 'attempt' && event.data.moved !== false)
}

async function look(attempt: Attempt) {
  const entries = await told(api.GET('/api/v1/attempts/{attempt_id}/timeline', { params: { path: { attempt_id: attempt.id } } }))
  looked.value = { attempt, entries }
}
</script>

<template>
  <div class="page">
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <template v-if="rollout">
      <div class="row mb-2">
        <h1>{{ rollout.name }}</h1>
        <RolloutState :state="rollout.state" data-testid="rollout-state" />
        <ActOnRollout class="push" :rollout="rollout" @done="reload" />
      </div>
      <p class="quiet mb-4">
        rollout {{ rollout.id }} · {{ rollout.release }} · started by {{ rollout.created_by }} {{ moment(rollout.started_at) }}
        <template v-if="rollout.ended_at">· ended {{ moment(rollout.ended_at) }}</template>
      </p>
      <v-alert v-if="rollout.state === 'halted'" type="error" class="mb-4">
        Halted: {{ rollout.reason }}. {{ rollout.at_risk }} devices are still at risk and are waited for. Resume it, or cancel it
        once nobody is at risk.
      </v-alert>
      <v-alert v-if="rollout.state === 'held'" type="warning" class="mb-4">Held: {{ rollout.reason }}. No offers and no clearances are given.</v-alert>

      <div class="columns top mb-5">
        <v-card class="panel rings">
          <RingArcs :rings="rollout.rings as never" />
          <div class="wide">
            <div v-for="ring in rollout.rings" :key="ring.position" class="mb-3">
              <div class="row mb-1">
                <strong>{{ ring.position + 1 }} {{ ring.name }}</strong>
                <span class="quiet">{{ ring.state }}, soak {{ ring.soak }}</span>
                <span class="push">{{ ring.states.confirmed ?? 0 }} of {{ total(ring.states as Counts) }}</span>
              </div>
              <StateBar :counts="ring.states as Counts" />
            </div>
            <div class="numbers">
              <div><div class="number">{{ rollout.targeted }}</div><span class="quiet">targeted</span></div>
              <div><div class="number">{{ rollout.exposed }}</div><span class="quiet">exposed</span></div>
              <div><div class="number">{{ rollout.at_risk }}</div><span class="quiet">at risk now</span></div>
              <div><div class="number">{{ Object.values(rollout.passed_over).reduce((a, b) => a + b, 0) }}</div><span class="quiet">passed over</span></div>
            </div>
            <p v-for="(count, reason) in rollout.passed_over" :key="reason" class="quiet">{{ count }} passed over: {{ reason }}</p>
          </div>
        </v-card>
        <v-card class="panel">
          <h2>Went wrong</h2>
          <p v-if="!Object.keys(rollout.reasons).length" class="quiet">Nothing so far.</p>
          <div v-for="(count, reason) in rollout.reasons" :key="reason" class="row">
            <span class="number bad">{{ count }}</span><span>{{ reason }}</span>
          </div>
          <h2 class="latest-title">Latest</h2>
          <p v-if="!latest.length" class="quiet">Nothing since this page was opened.</p>
          <div v-for="event in latest" :key="event.id" class="row latest">
            <span class="quiet">{{ event.at.slice(11, 19) }}</span>
            <template v-if="event.kind === 'attempt'">
              <span>{{ event.data.serial ?? `device ${event.device_id}` }}</span>
              <StateMark :state="String(event.data.state)" />
            </template>
            <strong v-else>{{ event.data.what }}: {{ event.data.why }}</strong>
          </div>
        </v-card>
      </div>

      <div class="row filters">
        <h2>Attempts</h2>
        <v-btn size="small" :variant="filter === null ? 'outlined' : 'text'" @click="filter = null">all {{ total(counts) }}</v-btn>
        <v-btn
          v-for="state in present"
          :key="state"
          size="small"
          :variant="filter === state ? 'outlined' : 'text'"
          :aria-pressed="filter === state"
          @click="filter = filter === state ? null : state"
        >
          <StateMark :state="state" /><strong class="ml-2">{{ counts[state] }}</strong>
        </v-btn>
      </div>
      <v-card>
        <v-table>
          <thead>
            <tr>
              <th scope="col">Serial</th>
              <th scope="col" class="count">Rev</th>
              <th scope="col">State</th>
              <th scope="col">Progress</th>
              <th scope="col">Reason or waiting for</th>
              <th scope="col" class="count">Try</th>
              <th scope="col">From</th>
              <th scope="col">Changed</th>
              <th scope="col"><span class="quiet">Timeline</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="attempt in attempts" :key="attempt.id">
              <td><router-link :to="`/fleet/${attempt.serial}`">{{ attempt.serial }}</router-link></td>
              <td class="count">{{ attempt.hw_rev }}</td>
              <td><StateMark :state="attempt.state" /></td>
              <td class="quiet">{{ attempt.step }} {{ attempt.percent === null ? '' : `${attempt.percent} %` }}</td>
              <td>
                {{ attempt.reason ?? attempt.waiting }}
                <span v-if="!attempt.reason && attempt.waiting_until" class="quiet">expected {{ moment(attempt.waiting_until).slice(11) }}</span>
              </td>
              <td class="count">{{ attempt.try_number }} of {{ attempt.tries }}</td>
              <td>{{ attempt.from_version }}</td>
              <td class="quiet text-no-wrap">{{ moment(attempt.changed_at) }}</td>
              <td><v-btn size="x-small" :aria-label="`Timeline of ${attempt.serial}`" @click="look(attempt)">look</v-btn></td>
            </tr>
          </tbody>
        </v-table>
        <p v-if="more" class="quiet pa-3">The first {{ PAGE }} are shown; choose a state to narrow the list.</p>
      </v-card>

      <v-dialog :model-value="looked !== null" max-width="900" @update:model-value="looked = null">
        <v-card v-if="looked" class="panel">
          <div class="row mb-2">
            <h2 class="mb-0">{{ looked.attempt.serial }}</h2>
            <StateMark :state="looked.attempt.state" />
            <v-btn class="push" size="small" @click="looked = null">Close</v-btn>
          </div>
          <TimelineTable :entries="looked.entries" />
        </v-card>
      </v-dialog>
    </template>
  </div>
</template>

<style scoped>
.top {
  grid-template-columns: 7fr 4fr;
}
.rings {
  display: grid;
  grid-template-columns: 230px 1fr;
  gap: 24px;
  align-items: center;
}
.filters {
  gap: 4px;
  margin-bottom: 8px;
}
.filters h2 {
  margin: 0 12px 0 0;
}
.numbers {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  margin: 22px 0 8px;
}
.latest-title {
  margin-top: 18px;
}
.bad {
  color: var(--rose);
}
.latest {
  font-size: 13px;
}
</style>
