<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type FeedEvent, type Overview, type Schemas } from '../api/client'
import AlarmLines from '../components/AlarmLines.vue'
import EmptyState from '../components/EmptyState.vue'
import PresenceRiver from '../components/PresenceRiver.vue'
import RolloutCard from '../components/RolloutCard.vue'
import { useLoading } from '../loading'
import { useClock } from '../stores/clock'
import { useLatest } from '../latest'
import { useSession } from '../stores/session'
import { reloadOn } from '../stores/feed'
import { ago, grouped, moment } from '../words'

const PRESENCE = ['online', 'late', 'offline', 'never-seen'] as const
const LATEST = 9
const overview = ref<Overview | null>(null)
const samples = ref<Schemas['PresenceSample'][]>([])
const { latest } = useLatest(['rollout', 'release', 'admission'], LATEST)
const clock = useClock()
const session = useSession()
const { failure, reload } = useLoading(async () => {
  overview.value = await told(api.GET('/api/v1/overview'))
  samples.value = await told(api.GET('/api/v1/presence'))
})
reloadOn(() => true, reload, 600)

const known = computed(() => Object.values(overview.value?.presence ?? {}).reduce((sum, n) => sum + n, 0))
const needs = computed(() => {
  const now = overview.value
  if (!now) return []
  const halted = now.moving.filter((rollout) => rollout.state === 'halted')
  const asking = now.moving.flatMap((rollout) => rollout.rings.filter((ring) => ring.state === 'awaiting-go').map((ring) => ({ rollout, ring })))
  return [
    ...asking.map(({ rollout, ring }) => ({
      text: `Rollout ${rollout.id} asks for ${{ go: 'go', approval: 'an approval', evidence: 'a look at what was heard outside', choice: 'a choice between two releases' }[ring.asks ?? 'go']}: ring ${ring.name}, ${ring.planned} devices`,
      to: `/rollouts/${rollout.id}`,
    })),
    ...now.moving
      .filter((rollout) => rollout.stands_still)
      .map((rollout) => ({ text: `Rollout ${rollout.id} does not move by itself: ${rollout.stands_still}`, to: `/rollouts/${rollout.id}` })),
    ...[...now.moving, ...(now.ended ?? [])]
      .filter((rollout) => rollout.unasked)
      .map((rollout) => ({
        text: `${rollout.unasked} ${rollout.unasked === 1 ? 'device' : 'devices'} of rollout ${rollout.id} switched without clearance`,
        to: `/rollouts/${rollout.id}`,
      })),
    ...halted.map((rollout) => ({ text: `Rollout ${rollout.id} is halted: ${rollout.reason}`, to: `/rollouts/${rollout.id}` })),
    ...(now.attention ?? []).map((one) => ({
      text: `${one.devices} ${one.devices === 1 ? 'device' : 'devices'} ${one.words}: ${one.first.join(', ')}${one.devices > one.first.length ? ' …' : ''}`,
      to: `/fleet?where=${encodeURIComponent(one.where)}`,
    })),
    ...now.unhealthy_images.map((digest) => ({ text: `The stored image ${digest.slice(0, 12)}… is damaged`, to: '/lineage' })),
  ]
})
const visits = computed(() => (overview.value?.attention ?? []).some((one) => ['recovery', 'long-offline'].includes(one.kind)))
const most = computed(() => Math.max(1, ...(overview.value?.versions ?? []).map((v) => v.devices)))
// Of a large fleet, the numbers may be some seconds old.
const counted = computed(() => {
  const one = overview.value
  if (!one || Date.parse(one.now) - Date.parse(one.counted_at) < 1000 * clock.scale) return ''
  return `Counted ${ago(Date.parse(one.counted_at), clock.now.getTime())}.`
})

function word(event: FeedEvent): string {
  const data = event.data as Record<string, string>
  if (event.kind === 'rollout') return `rollout ${event.rollout_id} ${data.what}: ${data.why}`
  if (event.kind === 'release') return `release ${data.release} ${data.what}`
  return `${data.serial} ${data.admission}`
}
</script>

<template>
  <div class="page">
    <div class="row mb-4">
      <h1>Now</h1>
      <span class="quiet push">
        <template v-if="session.me?.only">the devices of <span class="mono">{{ session.me.only }}</span> · </template>service time {{ moment(clock.now.toISOString()) }} UTC<template v-if="clock.scale !== 1">, {{ clock.scale }} times as fast</template>
      </span>
    </div>
    <v-alert v-if="failure" type="error" class="mb-4">{{ failure }}</v-alert>
    <p v-if="!overview && !failure" class="quiet">Counting the devices …</p>
    <div v-if="overview" class="columns now">
      <section>
        <h2>Needs a person</h2>
        <v-card class="panel mb-4">
          <p v-if="!needs.length" class="quiet">Nothing does.</p>
          <ul v-else>
            <li v-for="need in needs" :key="need.text"><router-link :to="need.to">{{ need.text }}</router-link></li>
          </ul>
          <p v-if="visits" class="mt-2"><a href="/api/v1/visits.csv" download>The visit list by site (CSV)</a></p>
        </v-card>
        <template v-if="overview.alarms?.length">
          <h2>Alarms that nothing explains</h2>
          <v-card class="panel mb-4" data-testid="alarms">
            <AlarmLines :alarms="overview.alarms" />
            <p v-if="(overview.alarms_unexplained ?? 0) > overview.alarms.length" class="quiet">
              {{ overview.alarms_unexplained }} in the last day; <router-link to="/tree">all of them</router-link>
            </p>
          </v-card>
        </template>
        <h2>Moving</h2>
        <div class="columns">
          <RolloutCard v-for="rollout in overview.moving" :key="rollout.id" :rollout="rollout" />
          <v-card v-if="!overview.moving.length">
            <EmptyState v-if="!known && !overview.ended?.length" title="Nothing is here yet" command="herald board add BOARD.toml">
              First comes a board, then a key, a release and devices: <router-link to="/keys">Keys and boards</router-link>
            </EmptyState>
            <EmptyState v-else title="No rollout is under way" command="herald rollout start PLAN.toml">
              Write a plan, then start it. <router-link to="/rollouts">Earlier rollouts</router-link>
            </EmptyState>
          </v-card>
        </div>
        <section v-if="overview.ended?.length" class="ended">
          <h2>Ended lately</h2>
          <div class="columns" data-testid="ended">
            <RolloutCard v-for="rollout in overview.ended" :key="rollout.id" :rollout="rollout" />
          </div>
        </section>
      </section>
      <section>
        <h2>Presence</h2>
        <v-card class="panel mb-4">
          <div v-if="known" class="presence" :class="{ many: known >= 100_000 }">
            <div v-for="name in PRESENCE" :key="name">
              <div class="number">{{ grouped(overview.presence[name] ?? 0) }}</div>
              <div class="quiet">{{ name }}</div>
            </div>
          </div>
          <p v-if="counted" class="quiet">{{ counted }}</p>
          <PresenceRiver v-if="known && samples.length" class="mt-3" :samples="samples" :now="overview.now" />
          <EmptyState v-if="!known" title="No devices yet" command="herald code new --board BOARD --line LINE">
            Devices come in with an enrolment code.
          </EmptyState>
        </v-card>
        <h2>What runs</h2>
        <v-card class="panel mb-4">
          <div v-for="version in overview.versions" :key="`${version.board}/${version.line}/${version.version}`" class="version">
            <span>{{ version.version ?? 'nothing known' }}</span>
            <span class="quiet">{{ version.line }} on {{ version.board }}</span>
            <span v-if="version.version && !version.known_build" class="quiet">no release has it</span>
            <span class="push">{{ grouped(version.devices) }}</span>
            <span class="track"><span :style="{ width: `${(100 * version.devices) / most}%` }" /></span>
          </div>
          <p v-if="!overview.versions.length" class="quiet">Nothing is known yet.</p>
        </v-card>
        <template v-if="latest.length">
          <h2>Latest</h2>
          <v-card class="panel">
            <div v-for="event in latest" :key="event.id" class="row told">
              <span class="quiet">{{ event.at.slice(11, 19) }}</span>
              <span>{{ word(event) }}</span>
            </div>
          </v-card>
        </template>
      </section>
    </div>
  </div>
</template>

<style scoped>
.now {
  grid-template-columns: 3fr 2fr;
  gap: 22px;
}
.told {
  flex-wrap: nowrap;
  align-items: baseline;
}
.ended {
  margin-top: 20px;
}
.presence {
  display: grid;
  grid-template-columns: repeat(4, auto);
  justify-content: space-between;
  gap: 4px 14px;
}
.presence.many .number {
  font-size: 20px;
}
.version {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 10px;
  margin-bottom: 10px;
}
.track {
  flex-basis: 100%;
}
.track span {
  display: block;
  height: 5px;
  border-radius: 3px;
  background: var(--slate);
}
ul {
  padding-left: 18px;
}
</style>
