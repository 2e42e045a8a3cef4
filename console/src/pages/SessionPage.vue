<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import StateMark from '../components/StateMark.vue'
import { useLoading } from '../loading'
import { useClock } from '../stores/clock'
import { reloadOn } from '../stores/feed'
import { amount, inWords, lasted, moment } from '../words'

/** One transmission of a release to a group on narrow radio. */
const props = defineProps<{ id: number }>()
const session = ref<Schemas['RadioSessionOut'] | null>(null)
const clock = useClock()
const { failure, reload } = useLoading(async () => {
  session.value = await told(api.GET('/api/v1/radio/sessions/{session_id}', { params: { path: { session_id: props.id } } }))
})
reloadOn((event) => event.rollout_id === session.value?.rollout_id || event.kind === 'radio', reload, 600)
watch(() => props.id, reload)

const STEPS = ['clock', 'group', 'session', 'fragments', 'ready', 'complete'] as const
const WORDS: Record<string, string> = {
  clock: 'clock to be set',
  group: 'group to be set up',
  session: 'session to be told',
  fragments: 'fragments to be set up',
  ready: 'ready',
  complete: 'complete',
}
const devices = computed(() => session.value?.members?.length ?? 0)
const counts = computed(() => STEPS.map((step) => ({ step, count: session.value?.counts[step] ?? 0 })))
/** From when it was planned to when it ended, or should: what is past of it, and what is to come. */
const line = computed(() => {
  const one = session.value
  if (!one) return null
  const planned = Date.parse(one.planned_at)
  const begins = Date.parse(one.began_at ?? one.begins_at)
  const ends = Date.parse(one.ended_at ?? '') || begins + 1000 * one.length_s
  const now = one.ended_at ? ends : Math.max(planned, clock.now.getTime())
  const whole = Math.max(1, Math.max(ends, now) - planned)
  const share = (at: number) => (100 * (at - planned)) / whole
  return { begins: share(begins), ends: share(ends), now: share(now) }
})
const headline = computed(() => {
  const one = session.value
  if (!one) return ''
  const now = clock.now.getTime()
  if (one.state === 'setting-up') return `set up: ${one.counts.ready ?? 0} of ${devices.value} ready, begins ${inWords(Date.parse(one.begins_at) - now)}`
  if (one.state === 'sending') {
    const asks = one.answers_until ? `, answers are waited for until ${one.answers_until.slice(11, 19)}` : ''
    return `sends: ${one.sent} of ${one.to_send} fragments, ${one.complete} of ${devices.value} complete${asks}`
  }
  const took = one.began_at && one.ended_at ? lasted(Date.parse(one.ended_at) - Date.parse(one.began_at)) : 'no time'
  return `ended, ${one.outcome}: ${one.sent} fragments in ${took}, ${one.complete} of ${devices.value} complete`
})
function width(count: number | null): string {
  return `${(100 * (count ?? 0)) / Math.max(1, session.value?.to_send ?? 1)}%`
}
function missing(member: Schemas['RadioMemberOut']): string {
  if (member.missing === null) return ''
  return member.missing >= 255 ? '255 or more' : String(member.missing)
}
</script>

<template>
  <div class="page">
    <v-alert v-if="failure" type="error" class="mb-4">{{ failure }}</v-alert>
    <template v-if="session">
      <div class="row mb-2">
        <h1>Session {{ session.id }}</h1>
        <strong :class="session.state" data-testid="session-headline">{{ headline }}</strong>
      </div>
      <p class="quiet mb-4">
        <router-link :to="`/rollouts/${session.rollout_id}`">rollout {{ session.rollout_id }}</router-link>
        <template v-if="session.repair_of !== null"> · repair of <router-link :to="`/sessions/${session.repair_of}`">session {{ session.repair_of }}</router-link></template>
        · {{ session.region }} data rate {{ session.data_rate }}, {{ (session.frequency / 1e6).toFixed(3) }} MHz · {{ session.fragments }} fragments of {{ session.fragment }} bytes ({{ amount(session.fragments * session.fragment) }}) and {{ session.coded }} of parity
        <template v-if="session.first_number > 1">· parity alone, from fragment {{ session.first_number }} on</template>
        · one every {{ session.apart_s.toFixed(2) }} s, about {{ lasted(1000 * session.length_s) }} in all
      </p>
      <v-alert v-if="session.trouble" type="error" class="mb-4">It does not go on: {{ session.trouble }}.</v-alert>
      <v-alert v-if="session.late.length" type="warning" class="mb-4" data-testid="late">
        Not ready when it began, served next:
        <template v-for="(serial, n) in session.late" :key="serial">{{ n ? ', ' : '' }}<router-link :to="`/fleet/${serial}`">{{ serial }}</router-link></template>
      </v-alert>
      <v-card class="panel mb-5">
        <div v-if="line" class="line" role="img" :aria-label="`planned ${moment(session.planned_at)}, begins ${moment(session.began_at ?? session.begins_at)}`">
          <span class="setup" :style="{ width: `${line.begins}%` }" />
          <span class="air" :style="{ left: `${line.begins}%`, width: `${line.ends - line.begins}%` }" />
          <span v-if="!session.ended_at" class="now" :style="{ left: `${line.now}%` }" />
        </div>
        <div class="moments quiet">
          <span>planned <b>{{ session.planned_at.slice(11, 16) }}</b></span>
          <span>{{ session.began_at ? 'began' : 'begins' }} <b>{{ (session.began_at ?? session.begins_at).slice(11, 16) }}</b></span>
          <span v-if="session.ended_at">ended <b>{{ session.ended_at.slice(11, 16) }}</b></span>
          <span>{{ Math.round(100 * session.expected_share) }} % were expected to need no repair</span>
        </div>
        <div class="steps">
          <div v-for="one in counts" :key="one.step" :class="{ none: !one.count }">
            <div class="number">{{ one.count }}</div>
            <span class="quiet">{{ WORDS[one.step] }}</span>
          </div>
        </div>
        <div class="sent"><span class="plain" :style="{ width: width(session.first_number > 1 ? 0 : Math.min(session.sent, session.fragments)) }" /><span class="parity" :style="{ width: width(session.first_number > 1 ? session.sent : Math.max(0, session.sent - session.fragments)) }" /></div>
        <p class="quiet">{{ session.sent }} of {{ session.to_send }} fragments sent<template v-if="session.first_number === 1">, the last {{ session.coded }} of them parity</template></p>
      </v-card>
      <v-card>
        <v-table density="compact">
          <thead>
            <tr>
              <th scope="col">Serial</th>
              <th scope="col">Step</th>
              <th scope="col" class="wide">Received, lost, made up</th>
              <th scope="col" class="count">Received</th>
              <th scope="col" class="count">Lost</th>
              <th scope="col" class="count">Made up</th>
              <th scope="col" class="count">Missing</th>
              <th scope="col">Attempt</th>
              <th scope="col">Last answer</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="member in session.members ?? []" :key="member.serial" :data-testid="`member-${member.serial}`">
              <td><router-link :to="`/fleet/${member.serial}`">{{ member.serial }}</router-link></td>
              <td :class="{ bad: member.problem, good: member.complete, late: member.ready === false && !member.complete }">{{ member.problem || WORDS[member.step] || member.step }}</td>
              <td>
                <div class="bar" aria-hidden="true"><span class="plain" :style="{ width: width(member.received) }" /><span class="lost" :style="{ width: width(member.lost) }" /></div>
              </td>
              <td class="count">{{ member.received || '' }}</td>
              <td class="count">{{ member.received || member.recovered !== null ? (member.lost ?? '') : '' }}</td>
              <td class="count">{{ member.recovered ?? '' }}</td>
              <td class="count">{{ missing(member) }}</td>
              <td><StateMark :state="member.state" /> <span class="bad">{{ member.reason ?? '' }}</span></td>
              <td class="quiet text-no-wrap">{{ member.heard_at ? member.heard_at.slice(11, 19) : '' }}</td>
            </tr>
          </tbody>
        </v-table>
      </v-card>
    </template>
  </div>
</template>

<style scoped>
.setting-up {
  color: var(--grey-blue-ink);
}
.sending {
  color: var(--honey-ink);
}
.line {
  position: relative;
  height: 14px;
  border-radius: 7px;
  background: rgba(var(--v-theme-on-surface), 0.06);
  overflow: hidden;
}
.line span {
  position: absolute;
  top: 0;
  height: 100%;
}
.setup {
  background: repeating-linear-gradient(45deg, var(--grey-blue), var(--grey-blue) 4px, transparent 4px, transparent 8px);
}
.air {
  background: var(--slate);
}
.now {
  width: 3px;
  background: var(--honey);
}
.moments {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 18px;
  margin: 6px 0 14px;
  font-size: 13px;
}
.steps {
  display: grid;
  grid-template-columns: repeat(6, 1fr);
  gap: 12px;
  margin-bottom: 14px;
}
.none {
  opacity: 0.45;
}
.sent,
.bar {
  display: flex;
  height: 8px;
  border-radius: 4px;
  background: rgba(var(--v-theme-on-surface), 0.08);
  overflow: hidden;
}
.bar {
  min-width: 160px;
}
.plain {
  background: var(--slate);
}
.parity {
  background: var(--honey);
}
.lost {
  background: var(--rose);
}
.wide {
  width: 24%;
}
.bad {
  color: var(--rose);
}
.good {
  color: var(--sage-ink);
}
.late {
  color: var(--honey-ink);
}
.count {
  text-align: right;
}
</style>
