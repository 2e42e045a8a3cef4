<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told, type Attempt, type Rollout, type Schemas } from '../api/client'
import ActOnRollout from '../components/ActOnRollout.vue'
import AlarmLines from '../components/AlarmLines.vue'
import ArmsBeside from '../components/ArmsBeside.vue'
import AttemptDialog from '../components/AttemptDialog.vue'
import BeforeAfter from '../components/BeforeAfter.vue'
import BrakePanel from '../components/BrakePanel.vue'
import ChoiceList from '../components/ChoiceList.vue'
import CourseChart from '../components/CourseChart.vue'
import HarmBudget from '../components/HarmBudget.vue'
import OutsideEvidence from '../components/OutsideEvidence.vue'
import PlanEdit from '../components/PlanEdit.vue'
import RadioSessions from '../components/RadioSessions.vue'
import RingArcs from '../components/RingArcs.vue'
import RolloutState from '../components/RolloutState.vue'
import StateBar from '../components/StateBar.vue'
import StateMark from '../components/StateMark.vue'
import SuspectsPanel from '../components/SuspectsPanel.vue'
import WasRehearsed from '../components/WasRehearsed.vue'
import { useLoading } from '../loading'
import { STATES, total, type Counts } from '../states'
import { useLatest } from '../latest'
import { useClock } from '../stores/clock'
import { reloadOn } from '../stores/feed'
import { amount, brings, inWords, listed, moment } from '../words'

const clock = useClock()
const PAGE = 200
const LATEST = 8
const AWAITED = { go: 'go', approval: "another person's approval", evidence: 'a look at what was heard outside', choice: 'a choice between two releases' }
const props = defineProps<{ id: number }>()
const rollout = ref<Rollout | null>(null)
const attempts = ref<Attempt[]>([])
const more = ref(false)
const filter = ref<string | null>(null)
const ring = ref<number | null>(null)
const reason = ref<string | null>(null)
const waitingFor = ref<Attempt['waiting_for'] | null>(null)
const { latest, fill: fillLatest } = useLatest(['rollout', 'attempt'], LATEST, () => props.id)
const everBad = ref(false)
const course = ref<Schemas['CoursePoint'][]>([])
const looked = ref<Attempt | null>(null)
const brakes = ref<Schemas['BrakesOut'] | null>(null)
const alarms = ref<Schemas['AlarmOut'][]>([])
const actions = ref<InstanceType<typeof ActOnRollout> | null>(null)

const { failure, reload } = useLoading(async () => {
  const path = { rollout_id: props.id }
  const query = {
    limit: PAGE,
    state: (filter.value ?? undefined) as Attempt['state'] | undefined,
    ring: ring.value ?? undefined,
    reason: reason.value ?? undefined,
    ever_bad: everBad.value || undefined,
    waiting_for: (waitingFor.value ?? undefined) as Schemas['WaitingFor'] | undefined,
  }
  const attemptsWith = (bad: boolean) => told(api.GET('/api/v1/rollouts/{rollout_id}/attempts', { params: { path, query: { ...query, ever_bad: bad } } }))
  // Whoever ever went bad comes first.
  const [shown, bad, others] = await Promise.all([
    told(api.GET('/api/v1/rollouts/{rollout_id}', { params: { path } })),
    attemptsWith(true),
    everBad.value ? { items: [], next: null } : attemptsWith(false),
  ])
  const items = [...bad.items, ...others.items]
  const page = { items: items.slice(0, PAGE), next: items.length > PAGE || bad.next || others.next }
  rollout.value = shown
  if (looked.value) looked.value = page.items.find((one) => one.id === looked.value?.id) ?? looked.value
  attempts.value = page.items
  more.value = page.next != null
})
reloadOn((event) => event.rollout_id === props.id, reload, 600)
// States over time are read from every event there was: not with each new one.
const { reload: reloadCourse } = useLoading(async () => {
  const path = { rollout_id: props.id }
  course.value = (await told(api.GET('/api/v1/rollouts/{rollout_id}/course', { params: { path } }))).points
})
reloadOn((event) => event.rollout_id === props.id, reloadCourse, 5000)
const { reload: reloadBrakes } = useLoading(async () => {
  brakes.value = await told(api.GET('/api/v1/rollouts/{rollout_id}/brake', { params: { path: { rollout_id: props.id } } }))
  alarms.value = await told(api.GET('/api/v1/alarms', { params: { query: { rollout: props.id, limit: 20 } } }))
})
reloadOn((event) => event.rollout_id === props.id, reloadBrakes, 3000)
watch([filter, ring, reason, waitingFor, everBad], reload)
// From a rollout to its rollback and back: the same page with another number.
watch(
  () => props.id,
  () => {
    void Promise.all([reload(), reloadCourse(), reloadBrakes(), fillLatest()])
  },
)

const counts = computed(() => (rollout.value?.states ?? {}) as Counts)
const present = computed(() => STATES.filter((state) => counts.value[state]))

function lookAt(what: 'failures' | 'suspects' | 'evidence' | 'choose') {
  if (what === 'failures') everBad.value = true
  document.getElementById({ failures: 'attempts', suspects: 'suspects', evidence: 'outside', choose: 'arms' }[what])?.scrollIntoView({ behavior: 'smooth' })
}
/** One step to the log of the part that failed first. */
async function lookAtPart(failed: Schemas['FailedPartOut']) {
  const query = { where: `serial = "${failed.serial}"`, limit: 1 }
  const page = await told(api.GET('/api/v1/rollouts/{rollout_id}/attempts', { params: { path: { rollout_id: props.id }, query } }))
  looked.value = page.items[0] ?? null
}
function until(at: string): string {
  const left = Date.parse(at) - clock.now.getTime()
  return left > 0 ? `${moment(at).slice(5, 16)} at the earliest, ${inWords(left)}` : 'as soon as it may'
}
const passed = computed(() => Object.values(rollout.value?.passed_over ?? {}).reduce((a, b) => a + b, 0))
const harmed = computed(() => total((rollout.value?.harm ?? {}) as Counts))
const brakeUntil = computed(() => {
  const last = brakes.value?.brakes.flatMap((brake) => brake.history.map((point) => point.at)).sort().pop()
  return rollout.value?.ended_at ?? last ?? brakes.value?.round_at ?? ''
})
const ended = computed(() => ['finished', 'cancelled'].includes(rollout.value?.state ?? ''))
const held = computed(() => Object.entries(rollout.value?.waiting ?? {}).filter(([word]) => word !== 'next-check-in'))

function part(used: number, cap: number | null | undefined): string {
  return cap ? `${used} of ${cap}` : String(used)
}
function pick(wanted: string) {
  reason.value = reason.value === wanted ? null : wanted
}
</script>

<template>
  <div class="page">
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <template v-if="rollout">
      <div class="row mb-2">
        <h1>{{ rollout.name }}</h1>
        <RolloutState :rollout="rollout" data-testid="rollout-state" />
        <span class="push" />
        <PlanEdit :rollout="rollout" @done="reload" />
        <v-btn size="small" :href="`/api/v1/rollouts/${rollout.id}/report.html`" target="_blank">report</v-btn>
        <ActOnRollout ref="actions" :rollout="rollout" @done="reload" @look="lookAt" />
      </div>
      <p class="quiet mb-4">
        rollout {{ rollout.id }} · {{ brings(rollout) }} · {{ rollout.plan.target }} · {{ rollout.state === 'scheduled' ? 'scheduled' : 'started' }} by {{ rollout.created_by }} {{ moment(rollout.started_at ?? rollout.plan.calendar?.start) }}
        <template v-if="rollout.ended_at">· ended {{ moment(rollout.ended_at) }}</template>
      </p>
      <v-alert v-if="rollout.state === 'halted'" type="error" class="mb-4">
        <p class="mb-1"><strong>Halted:</strong> {{ rollout.reason }}.</p>
        <ChoiceList :choices="rollout.choices" @choose="(choice) => actions?.choose(choice)" />
      </v-alert>
      <v-alert v-else-if="rollout.halted_why" type="error" variant="outlined" density="compact" class="mb-4" data-testid="was-halted">
        Was halted: {{ rollout.halted_why }}.<template v-if="rollout.ended_at && rollout.reason && rollout.reason !== rollout.halted_why"> Ended: {{ rollout.reason }}.</template>
      </v-alert>
      <v-alert v-else-if="rollout.ended_at && rollout.reason" type="info" class="mb-4">{{ rollout.state }}: {{ rollout.reason }}.</v-alert>
      <v-alert v-if="rollout.unasked" type="warning" class="mb-4">
        {{ rollout.unasked }} {{ rollout.unasked === 1 ? 'device' : 'devices' }} switched without clearance (acted-without-clearance). They are believed; find out why they did not wait.
      </v-alert>
      <v-alert v-if="rollout.rolls_back" type="info" class="mb-4">
        Brings devices of <router-link :to="`/rollouts/${rollout.rolls_back}`">rollout {{ rollout.rolls_back }}</router-link> back to what they came from.
      </v-alert>
      <v-alert v-if="rollout.rolled_back_by.length" type="info" class="mb-4">
        Rolled back by <template v-for="other in rollout.rolled_back_by" :key="other"><router-link :to="`/rollouts/${other}`">rollout {{ other }}</router-link> </template>
      </v-alert>
      <v-alert v-for="one in rollout.rings.filter((ring) => ring.state === 'awaiting-go' && ring.asks_why)" :key="one.position" type="warning" class="mb-4">
        <p class="mb-1">Ring {{ one.name }} awaits {{ AWAITED[one.asks ?? 'go'] }}: {{ one.asks_why }}.</p>
        <ChoiceList v-if="one.asks !== 'go' && !rollout.stands_still" :choices="rollout.choices" @choose="(choice) => actions?.choose(choice)" />
      </v-alert>
      <v-alert v-if="rollout.stands_still" type="warning" class="mb-4" data-testid="stands-still">
        <p class="mb-1"><strong>Nothing moves by itself:</strong> {{ rollout.stands_still }}.</p>
        <ChoiceList :choices="rollout.choices" @choose="(choice) => actions?.choose(choice)" />
      </v-alert>
      <v-alert v-if="rollout.state === 'held'" type="warning" class="mb-4">Held: {{ rollout.reason }}. No offers and no clearances are given.</v-alert>

      <div class="columns top mb-5">
        <v-card class="panel rings">
          <RingArcs :rings="rollout.rings as never" />
          <div class="wide">
            <div v-for="one in rollout.rings" :key="one.position" class="mb-3" :data-testid="`ring-${one.position}`">
              <div class="row mb-1">
                <strong>{{ one.position + 1 }} {{ one.name }}</strong>
                <span :class="one.state === 'awaiting-go' ? 'asks' : 'quiet'">{{ one.state }}, soak {{ one.soak }}</span>
                <span v-if="one.earliest" class="quiet" :data-testid="`opens-${one.position}`">opens {{ until(one.earliest) }}</span>
                <span class="push">{{ one.states.confirmed ?? 0 }} of {{ total(one.states as Counts) || `${one.planned} planned` }}</span>
              </div>
              <StateBar :counts="one.states as Counts" />
              <p v-if="one.hangs_on?.length" class="quiet hangs">waits for: {{ one.hangs_on.join('; ') }}</p>
              <p v-if="Object.keys(one.set_aside ?? {}).length" class="quiet hangs">set aside, served when their time comes: {{ listed(one.set_aside ?? {}) }}</p>
            </div>
            <div class="numbers">
              <div><div class="number">{{ rollout.targeted }}</div><span class="quiet">targeted</span></div>
              <div><div class="number">{{ rollout.exposed }}</div><span class="quiet">exposed</span></div>
              <div><div class="number">{{ rollout.at_risk }}</div><span class="quiet">at risk{{ rollout.plan.pace?.at_risk_at_once ? ` of ${rollout.plan.pace.at_risk_at_once}` : '' }}</span></div>
              <div><div class="number">{{ passed }}</div><span class="quiet">passed over</span></div>
            </div>
            <p class="quiet">
              {{ part(rollout.downloading, rollout.plan.pace?.downloading_at_once) }} downloading<template v-if="rollout.all_bytes"> · {{ amount(rollout.moved_bytes) }} of {{ amount(rollout.all_bytes) }} moved</template><template v-if="rollout.never_given"> · {{ rollout.never_given }} not given an attempt</template>
            </p>
            <p v-for="(count, why) in rollout.passed_over" :key="why" class="quiet">{{ count }} passed over: {{ why }}</p>
            <HarmBudget v-if="rollout.budget" :budget="rollout.budget" />
          </div>
          <div class="over-time">
            <h2>States over time</h2>
            <CourseChart :points="course" :rings="rollout.rings as never" />
          </div>
        </v-card>
        <v-card class="panel">
          <h2>Brakes</h2>
          <BrakePanel v-if="brakes" :brakes="brakes" :until="brakeUntil" />
          <h2 class="latest-title">Went wrong</h2>
          <p v-if="!harmed" class="quiet">Nothing so far.</p>
          <button
            v-for="(count, why) in rollout.harm"
            :key="why"
            type="button"
            class="row wrong"
            :aria-pressed="reason === why"
            @click="pick(String(why))"
          >
            <span class="number bad">{{ count }}</span><span>{{ why }}</span>
            <span v-if="(rollout.reasons[why] ?? 0) < count" class="quiet">{{ rollout.reasons[why] ?? 0 }} still</span>
          </button>
          <template v-if="rollout.failed_parts?.length">
            <h2 class="latest-title">Parts that failed</h2>
            <button v-for="one in rollout.failed_parts" :key="`${one.ring} ${one.part}`" type="button" class="wrong mb-1" :data-testid="`failed-${one.part}`" @click="lookAtPart(one)">
              <span class="bad">{{ one.part }}</span> on {{ one.devices }} {{ one.devices === 1 ? 'device' : 'devices' }} of ring {{ rollout.rings[one.ring]?.name }}
              <span class="quiet">{{ one.serial }}: {{ one.line }}</span>
            </button>
          </template>
          <template v-if="alarms.length">
            <h2 class="latest-title">Alarms it explains</h2>
            <AlarmLines :alarms="alarms" />
          </template>
          <h2 class="latest-title">Latest</h2>
          <p v-if="!latest.length" class="quiet">Nothing so far.</p>
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

      <ArmsBeside v-if="rollout.plan.arms?.length && rollout.started_at" :rollout="rollout" @done="reload" />

      <RadioSessions :rollout-id="id" />

      <WasRehearsed :rollout="rollout" :course="course" />

      <OutsideEvidence v-if="rollout.started_at" :rollout-id="id" @done="reload" />

      <v-card v-if="harmed" id="suspects" class="panel mb-5">
        <h2>Suspects: what failing devices have in common</h2>
        <SuspectsPanel :rollout-id="id" :stamp="`${harmed}/${rollout.at_risk}`" :can-resume="rollout.state === 'halted'" @leave-out="(selector) => actions?.resumeWithout(selector)" />
      </v-card>

      <BeforeAfter v-if="rollout.exposed" :rollout-id="id" />

      <div id="attempts" class="row filters">
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
        <v-btn v-if="harmed" size="small" class="ml-4" :variant="everBad ? 'outlined' : 'text'" :aria-pressed="everBad" @click="everBad = !everBad">
          <span class="bad">ever bad</span><strong class="ml-2">{{ harmed }}</strong>
        </v-btn>
      </div>
      <div class="row filters">
        <span class="quiet">Ring</span>
        <v-btn v-for="one in rollout.rings" :key="one.position" size="small" :variant="ring === one.position ? 'outlined' : 'text'" :aria-pressed="ring === one.position" @click="ring = ring === one.position ? null : one.position">
          {{ one.name }} <strong class="ml-2">{{ total(one.states as Counts) }}</strong>
        </v-btn>
        <template v-if="held.length">
          <span class="quiet ml-4">Waits for</span>
          <v-btn v-for="[word, count] in held" :key="word" size="small" :variant="waitingFor === word ? 'outlined' : 'text'" :aria-pressed="waitingFor === word" @click="waitingFor = waitingFor === word ? null : (word as never)">
            {{ word }} <strong class="ml-2">{{ count }}</strong>
          </v-btn>
        </template>
        <v-btn v-if="reason" size="small" variant="outlined" @click="reason = null">{{ reason }} ×</v-btn>
      </div>
      <v-card>
        <v-table>
          <thead>
            <tr>
              <th scope="col">Serial</th>
              <th scope="col">Ring</th>
              <th scope="col" class="count">Rev</th>
              <th scope="col">State</th>
              <th scope="col">Progress</th>
              <th scope="col">Reason or waiting for</th>
              <th scope="col" class="count">Try</th>
              <th v-if="rollout.plan.arms?.length" scope="col">Arm</th>
              <th scope="col">From</th>
              <th scope="col">Changed</th>
              <th scope="col"><span class="quiet">Timeline</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="attempt in attempts" :key="attempt.id">
              <td><router-link :to="`/fleet/${attempt.serial}`">{{ attempt.serial }}</router-link></td>
              <td>{{ rollout.rings[attempt.ring]?.name }}</td>
              <td class="count">{{ attempt.hw_rev }}</td>
              <td><StateMark :state="attempt.state" /></td>
              <td class="quiet">{{ attempt.step }} {{ attempt.percent === null ? '' : `${attempt.percent} %` }}</td>
              <td class="wrap">
                {{ attempt.reason ?? attempt.waiting }}
                <span v-if="attempt.first_bad_why && attempt.first_bad_why !== attempt.reason" class="bad">was {{ attempt.first_bad_why }} in try {{ attempt.first_bad_try ?? '?' }}</span>
                <span v-if="attempt.unasked_at" class="bad">switched without clearance</span>
                <span v-if="attempt.left_out" class="quiet">left out</span>
                <span v-if="!attempt.reason && attempt.waiting_until" class="quiet">expected {{ moment(attempt.waiting_until).slice(11) }}</span>
              </td>
              <td class="count">{{ attempt.try_number }} of {{ attempt.tries }}</td>
              <td v-if="rollout.plan.arms?.length">{{ attempt.arm }}</td>
              <td>{{ attempt.from_version }}</td>
              <td class="quiet text-no-wrap">{{ moment(attempt.changed_at) }}</td>
              <td><v-btn size="x-small" :aria-label="`Look at the timeline of ${attempt.serial}`" @click="looked = attempt">look</v-btn></td>
            </tr>
          </tbody>
        </v-table>
        <p v-if="more" class="quiet pa-3">The first {{ PAGE }} are shown; choose a ring or a state to narrow the list.</p>
      </v-card>

      <AttemptDialog :attempt="looked" :ended="ended" @leave="looked = null" @done="reload" />
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
  align-items: start;
}
.filters {
  gap: 4px;
  margin-bottom: 8px;
}
.filters h2 {
  margin: 0 12px 0 0;
}
.over-time {
  grid-column: 1 / -1;
}
.numbers {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  margin: 22px 0 8px;
}
.latest-title {
  margin-top: 18px;
}
.hangs {
  margin: 2px 0 0;
  font-size: 13px;
}
.asks {
  color: var(--honey-ink);
  font-weight: 600;
}
.wrong {
  width: 100%;
  padding: 0;
  text-align: left;
  background: none;
  border: 0;
  color: inherit;
  font: inherit;
  cursor: pointer;
}
.bad {
  color: var(--rose);
}
.latest {
  font-size: 13px;
}
</style>
