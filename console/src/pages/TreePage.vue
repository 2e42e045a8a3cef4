<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Schemas } from '../api/client'
import AlarmLines from '../components/AlarmLines.vue'
import EmptyState from '../components/EmptyState.vue'
import StateMark from '../components/StateMark.vue'
import { useLoading } from '../loading'
import { useClock } from '../stores/clock'
import { reloadOn } from '../stores/feed'
import { ago } from '../words'

type Node = Schemas['TopologyNode']

const tree = ref<Schemas['TopologyOut'] | null>(null)
const alarms = ref<Schemas['AlarmOut'][]>([])
const clock = useClock()
const { failure, reload } = useLoading(async () => {
  tree.value = await told(api.GET('/api/v1/topology'))
  alarms.value = await told(api.GET('/api/v1/alarms', { params: { query: { limit: 30 } } }))
})
reloadOn((event) => event.kind === 'attempt' || event.kind === 'device', reload, 600)

const depths = computed(() => {
  const found = new Map<string, number>()
  for (const node of tree.value?.nodes ?? []) {
    const above = node.gateway ? found.get(node.gateway) : undefined
    found.set(node.serial, above === undefined ? 0 : above + 1)
  }
  return found
})
const cut = computed(() => (tree.value?.nodes ?? []).filter((node) => node.cut_off).length)
function back(node: Node): string {
  const at = node.cut_off?.expected_back
  return at ? `expected back ${at.slice(11, 16)}` : 'when it is back is not known'
}
function heard(node: Node): string {
  return node.seen_at ? ago(Date.parse(node.seen_at), clock.now.getTime()) : 'never'
}
</script>

<template>
  <div class="page">
    <div class="row mb-4">
      <h1>Gateways</h1>
      <span class="quiet"><router-link to="/fleet">Fleet</router-link></span>
      <span v-if="tree" class="quiet push">{{ tree.total }} devices have a gateway or are one<template v-if="cut">, {{ cut }} cut off by a restart</template></span>
    </div>
    <v-alert v-if="failure" type="error" class="mb-4">{{ failure }}</v-alert>
    <v-alert v-for="circle in tree?.circles ?? []" :key="circle[0]" type="error" class="mb-4">
      These gateways are behind each other: {{ [...circle, circle[0]].join(' → ') }}. No plan that touches them starts.
    </v-alert>
    <div v-if="tree" class="columns tree">
      <v-card class="panel">
        <EmptyState v-if="!tree.nodes.length" title="No device has a gateway" command="herald device gateway SERIAL GATEWAY">
          Say which device reaches the network through which.
        </EmptyState>
        <ul v-else class="nodes">
          <li v-for="node in tree.nodes" :key="node.serial" class="node" :style="{ paddingLeft: `${26 * (depths.get(node.serial) ?? 0)}px` }" :data-testid="`node-${node.serial}`">
            <span class="branch" aria-hidden="true">{{ depths.get(node.serial) ? '└' : '' }}</span>
            <router-link v-if="node.known" :to="`/fleet/${node.serial}`"><strong>{{ node.serial }}</strong></router-link>
            <strong v-else>{{ node.serial }}</strong>
            <template v-if="node.known">
              <span class="quiet">{{ node.board }}</span>
              <span>{{ node.version ?? '?' }}</span>
              <span v-if="node.cut_off" class="cut">cut off by {{ node.cut_off.by }}, {{ back(node) }}</span>
              <span v-else class="quiet">{{ node.presence }}, heard {{ heard(node) }}</span>
              <span class="ending">
                <span v-if="node.failed_part" class="bad">{{ node.failed_part }} failed</span>
                <router-link v-if="node.state" :to="`/rollouts/${node.rollout_id}`"><StateMark :state="node.state" /></router-link>
              </span>
            </template>
            <span v-else class="quiet">never enrolled</span>
            <span v-if="node.behind" class="quiet behind">{{ node.behind }} behind it<template v-if="node.restart_s != null">, restarts in about {{ Math.round(node.restart_s) }} s</template></span>
          </li>
        </ul>
        <p v-if="tree.total > tree.nodes.length" class="quiet mt-2">The first {{ tree.nodes.length }} of {{ tree.total }}.</p>
      </v-card>
      <section>
        <h2>Alarms, newest first</h2>
        <v-card class="panel">
          <AlarmLines :alarms="alarms" />
          <p v-if="!alarms.length" class="quiet">None was raised.</p>
        </v-card>
      </section>
    </div>
  </div>
</template>

<style scoped>
.tree {
  grid-template-columns: 3fr 2fr;
  gap: 22px;
}
.nodes {
  margin: 0;
  padding: 0;
  list-style: none;
}
.node {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
  align-items: center;
  padding: 5px 0;
}
.branch {
  width: 10px;
  color: var(--stone);
}
.cut {
  padding: 0 8px;
  border: 1px dashed var(--stone);
  border-radius: 8px;
  color: rgba(var(--v-theme-on-surface), 0.7);
}
.ending {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-left: auto;
}
.bad {
  color: var(--rose);
}
.behind {
  flex-basis: 100%;
  padding-left: 22px;
}
</style>
