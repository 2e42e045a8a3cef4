<script setup lang="ts">
import { onMounted, onScopeDispose, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, told, type Schemas } from '../api/client'
import EmptyState from '../components/EmptyState.vue'
import PlanForm from '../components/PlanForm.vue'
import PlanPreview from '../components/PlanPreview.vue'
import PlanSteps from '../components/PlanSteps.vue'
import RehearsePlan from '../components/RehearsePlan.vue'
import ReasonDialog from '../components/ReasonDialog.vue'
import { emptyPlan, fromToml, toToml, type PlanDocument, type Sent } from '../plan'

const PAUSE_MS = 400
const KEPT = 'plan'
const route = useRoute()
const router = useRouter()
const plan = ref<PlanDocument>(kept() ?? emptyPlan())
const text = ref('')
const view = ref<'form' | 'toml'>('form')
const unread = ref('')
const preview = ref<Schemas['PreviewOut'] | null>(null)
const failure = ref('')
const asking = ref(false)
const overtake = ref(false)
const side = ref<'preview' | 'rehearsal'>('preview')
const releases = ref<string[]>([])
const listed = ref(false)
const starting = ref<string | null>(null)
let waiting = 0
let asked = 0

onMounted(async () => {
  const page = await told(api.GET('/api/v1/releases', { params: { query: { limit: 100 } } }))
  listed.value = true
  releases.value = page.items.filter((one) => one.state === 'published').map((one) => `${one.board}/${one.line}/${one.version}`)
  const wanted = String(route.query.release ?? '')
  if (wanted && plan.value.release !== wanted) {
    const [board, line] = wanted.split('/')
    plan.value = emptyPlan(wanted, `board = ${board} and line = ${line}`)
  } else if (plan.value.release) void look()
})
onScopeDispose(() => window.clearTimeout(waiting))

// What was typed here is worth keeping: a plan is not lost by looking something up on another page.
function kept(): PlanDocument | null {
  const stored = sessionStorage.getItem(KEPT)
  return stored ? (JSON.parse(stored) as PlanDocument) : null
}

watch(
  [plan, overtake],
  () => {
    sessionStorage.setItem(KEPT, JSON.stringify(plan.value))
    if (view.value === 'form') text.value = toToml(plan.value)
    window.clearTimeout(waiting)
    waiting = window.setTimeout(look, PAUSE_MS)
  },
  { deep: true },
)
watch(view, () => {
  text.value = toToml(plan.value)
  unread.value = ''
})

function read(typed: string) {
  text.value = typed
  try {
    plan.value = fromToml(typed)
    unread.value = ''
  } catch (error) {
    unread.value = (error as Error).message
  }
}

async function look() {
  const mine = ++asked
  asking.value = true
  try {
    const body = JSON.parse(JSON.stringify(plan.value)) as Sent
    const found = await told(api.POST('/api/v1/previews', { params: { query: { overtake: overtake.value } }, body }))
    if (mine !== asked) return
    preview.value = found
    failure.value = ''
  } catch (error) {
    if (mine === asked) failure.value = (error as Error).message
  } finally {
    if (mine === asked) asking.value = false
  }
}

async function start() {
  const query = { counts: preview.value?.counts, overtake: overtake.value }
  const rollout = await told(api.POST('/api/v1/rollouts', { params: { query }, body: plan.value as Sent }))
  sessionStorage.removeItem(KEPT)
  await router.push(`/rollouts/${rollout.id}`)
}

function download() {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([toToml(plan.value)], { type: 'application/toml' }))
  link.download = `${plan.value.name || 'plan'}.toml`.replace(/[^\w.-]+/g, '-')
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <div class="page">
    <div class="row mb-3">
      <h1>Plan</h1>
      <v-btn-toggle v-model="view" mandatory density="compact" variant="outlined" aria-label="How the plan is shown">
        <v-btn value="form" size="small">Form</v-btn>
        <v-btn value="toml" size="small">TOML</v-btn>
      </v-btn-toggle>
      <v-btn size="small" @click="download">Save as a file</v-btn>
      <v-checkbox v-if="plan.urgent" v-model="overtake" class="overtake" label="take over devices that wait in other rollouts" density="compact" hide-details />
      <v-btn class="push" color="primary" variant="flat" :disabled="!preview || !!failure || !!unread || asking" @click="starting = 'start'">Start</v-btn>
    </div>
    <div class="columns sides">
      <v-card class="panel">
        <PlanForm v-if="view === 'form'" v-model="plan" :releases="releases" />
        <template v-else>
          <v-textarea
            :model-value="text"
            label="The plan as TOML"
            class="toml"
            auto-grow
            rows="20"
            spellcheck="false"
            :error-messages="unread"
            @update:model-value="read"
          />
        </template>
      </v-card>
      <v-card class="panel beside" aria-live="polite">
        <div class="row mb-2">
          <h2>{{ side === 'preview' ? 'What it would do now' : 'How it would go' }}</h2>
          <v-btn-toggle v-model="side" mandatory density="compact" variant="outlined" class="push" aria-label="What is shown beside the plan">
            <v-btn value="preview" size="small">Preview</v-btn>
            <v-btn value="rehearsal" size="small">Rehearsal</v-btn>
          </v-btn-toggle>
        </div>
        <RehearsePlan v-show="side === 'rehearsal'" :plan="plan" :disabled="!preview || !!failure || !!unread" />
        <v-alert v-if="failure" type="error" class="mb-3" role="alert">{{ failure }}</v-alert>
        <EmptyState v-if="listed && !releases.length" title="Nothing is published yet" command="herald release publish FILE --key KEY.pem">
          A plan brings a release to devices, so there must be one first.
        </EmptyState>
        <p v-else-if="!preview && asking" class="quiet">Counting devices…</p>
        <p v-else-if="!preview && !failure" class="quiet">Choose a release and say whom it is for: the numbers appear here.</p>
        <div v-if="preview" v-show="side === 'preview'" :class="{ stale: !!failure || asking }">
          <PlanPreview :preview="preview" />
          <PlanSteps v-if="!failure" class="mt-3" :plan="plan as Sent" />
        </div>
      </v-card>
    </div>
    <ReasonDialog :word="starting" :title="`Start ${plan.name}`" :needs-reason="false" :act="start" @leave="starting = null">
      <p v-if="preview" class="mb-4">
        {{ plan.release }} goes to {{ preview.counts.reduce((a, b) => a + b, 0) }} devices in {{ preview.counts.length }} rings ({{ preview.counts.join(', ') }});
        {{ preview.targeted - preview.eligible }} are passed over. Nothing starts if a ring has changed by more than 5 % since.
      </p>
    </ReasonDialog>
  </div>
</template>

<style scoped>
.sides {
  grid-template-columns: 7fr 5fr;
  align-items: start;
}
.beside {
  position: sticky;
  top: 12px;
}
.stale {
  opacity: 0.8;
}
.overtake {
  flex: 0 0 auto;
}
.toml :deep(textarea) {
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 13px;
  line-height: 1.5;
}
</style>
