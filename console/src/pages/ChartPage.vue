<script setup lang="ts">
import { mdiArrowDown, mdiArrowUp, mdiClose } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { onBeforeRouteLeave, useRoute, useRouter } from 'vue-router'

import { api, done, told, type Schemas } from '../api/client'
import { BY, EVERYBODY, draftOf, emptyDraft, fromToml, lacks, moved, sent, toToml, USUAL_HEIGHT, type By, type Draft } from '../chartPage'
import RowHandle from '../components/RowHandle.vue'
import RowPlot from '../components/RowPlot.vue'
import SelectorField from '../components/SelectorField.vue'
import StretchBar from '../components/StretchBar.vue'
import { useLoading } from '../loading'
import { spanOf } from '../readings'
import { useStretch } from '../stretch'

/** A chart page: rows of signals that are looked at together, as they are kept or as somebody lays them out. */
const props = defineProps<{ id: number | null }>()
const route = useRoute()
const router = useRouter()
const page = ref<Schemas['ChartPageOut'] | null>(null)
const signals = ref<Schemas['SignalOut'][]>([])
const draft = ref<Draft>(emptyDraft())
const kept = ref('')
const where = ref('')
const laying = ref(props.id === null)
const wrong = ref('')
const dropping = ref(false)
const stretch = useStretch(3600)

function take(found: Draft) {
  draft.value = found
  where.value = found.where
  stretch.choose(spanOf(found.last) ?? 3600)
}
const { failure, reload } = useLoading(async () => {
  signals.value = await told(api.GET('/api/v1/signals', {}))
  if (props.id === null) {
    page.value = null
    const named = route.query.signals ? String(route.query.signals).split(',') : []
    const rows = named.map((name) => ({ signals: [name], against: null, height: USUAL_HEIGHT }))
    take({ ...emptyDraft(), where: String(route.query.where ?? ''), by: (route.query.by as By | undefined) ?? 'device', rows })
  } else {
    page.value = await told(api.GET('/api/v1/chart_pages/{number}', { params: { path: { number: props.id } } }))
    take(draftOf(page.value))
  }
  kept.value = JSON.stringify(draft.value)
})
watch(
  () => props.id,
  (id) => {
    // What was just kept is here already: reading it again would take away what was typed since.
    if (id === null || id !== page.value?.id) reload()
  },
)

const names = computed(() => [...new Set(signals.value.map((one) => one.name))].sort())
const numbers = computed(() => [...new Set(signals.value.filter((one) => one.kind === 'number').map((one) => one.name))].sort())
const changed = computed(() => JSON.stringify(draft.value) !== kept.value)
const lacking = computed(() => lacks(draft.value))
const mine = computed(() => page.value === null || page.value.mine)

async function keep(copy: boolean) {
  wrong.value = ''
  try {
    const body = sent(draft.value)
    const there = copy ? null : page.value
    const saved = there
      ? await told(api.PUT('/api/v1/chart_pages/{number}', { params: { path: { number: there.id } }, body: { ...body, edition: there.edition } }))
      : await told(api.POST('/api/v1/chart_pages', { body }))
    page.value = saved
    take(draftOf(saved))
    kept.value = JSON.stringify(draft.value)
    laying.value = false
    if (saved.id !== props.id) await router.replace(`/readings/pages/${saved.id}`)
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
async function drop() {
  dropping.value = false
  if (!page.value) return
  try {
    await done(api.DELETE('/api/v1/chart_pages/{number}', { params: { path: { number: page.value.id } } }))
    kept.value = JSON.stringify(draft.value)
    await router.push('/readings')
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
function write() {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([toToml(draft.value)], { type: 'application/toml' }))
  link.download = `${draft.value.name.replace(/[^\w-]+/g, '-') || 'chart-page'}.toml`
  link.click()
  URL.revokeObjectURL(link.href)
}
async function read(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  wrong.value = ''
  try {
    take({ ...fromToml(await file.text()), shared: draft.value.shared })
  } catch (error) {
    wrong.value = `${file.name}: ${(error as Error).message}`
  }
}
function addRow() {
  draft.value.rows.push({ signals: [], against: null, height: USUAL_HEIGHT })
}
onBeforeRouteLeave(() => !changed.value || window.confirm('What you have laid out is not kept yet. Leave it?'))
</script>

<template>
  <div class="page">
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <div class="row mb-3">
      <h1>{{ draft.name || 'A new chart page' }}</h1>
      <span v-if="page" class="quiet">{{ page.mine ? 'yours' : `${page.made_by}'s` }}, {{ page.shared ? 'for everybody' : 'for yourself' }}<template v-if="changed"> · changed, not kept yet</template></span>
      <div class="row push">
        <v-btn size="small" :variant="laying ? 'flat' : 'outlined'" @click="laying = !laying">Lay out</v-btn>
        <v-btn v-if="changed && page && mine" size="small" color="primary" :disabled="!!lacking" @click="keep(false)">Keep the change</v-btn>
        <v-btn v-if="!page || !mine || wrong" size="small" color="primary" :disabled="!!lacking" @click="keep(true)">{{ page ? 'Keep a copy' : 'Keep' }}</v-btn>
        <v-btn size="small" variant="outlined" :disabled="!draft.rows.length" @click="write">Write TOML</v-btn>
        <v-btn v-if="page && mine" size="small" variant="outlined" @click="dropping = true">Drop …</v-btn>
      </div>
    </div>
    <v-alert v-if="wrong" type="error" class="mb-3" data-testid="wrong">{{ wrong }}</v-alert>
    <v-card v-if="laying && kept" class="panel mb-4" data-testid="layout">
      <div class="row mb-2">
        <v-text-field v-model="draft.name" label="Name" density="compact" hide-details class="name" />
        <v-text-field v-model="draft.last" label="Shows the last" density="compact" hide-details class="short" @change="stretch.choose(spanOf(draft.last) ?? 3600)" />
        <v-select v-model="draft.by" :items="BY" label="A line for" density="compact" hide-details class="short" />
        <v-text-field v-if="draft.by === 'ring'" v-model.number="draft.rollout" type="number" min="1" label="Of rollout" density="compact" hide-details class="short" />
        <v-checkbox v-model="draft.shared" label="for everybody" density="compact" hide-details />
      </div>
      <div class="choose">
        <SelectorField v-model="where" @submit="draft.where = where" />
        <v-btn class="mt-1" @click="draft.where = where">Look</v-btn>
      </div>
      <div class="row mt-2">
        <label class="quiet">or from a file: <input type="file" accept=".toml" aria-label="Read TOML" @change="read" /></label>
        <span v-if="lacking" class="quiet push">{{ lacking }}</span>
      </div>
    </v-card>
    <v-card class="panel">
      <StretchBar :stretch="stretch" />
      <div v-for="(row, at) in draft.rows" :key="at" data-testid="chart-row">
        <div v-if="laying" class="row edit">
          <v-select v-model="row.signals" :items="names" :label="`Signals of row ${at + 1}`" multiple chips density="compact" hide-details class="pick" />
          <v-select v-model="row.against" :items="numbers.filter((one) => !row.signals.includes(one))" :label="`Row ${at + 1} against`" clearable density="compact" hide-details class="against" />
          <v-btn :icon="mdiArrowUp" size="x-small" variant="text" :aria-label="`Row ${at + 1} up`" :disabled="at === 0" @click="draft.rows = moved(draft.rows, at, -1)" />
          <v-btn :icon="mdiArrowDown" size="x-small" variant="text" :aria-label="`Row ${at + 1} down`" :disabled="at === draft.rows.length - 1" @click="draft.rows = moved(draft.rows, at, 1)" />
          <v-btn :icon="mdiClose" size="x-small" variant="text" :aria-label="`Take row ${at + 1} away`" @click="draft.rows.splice(at, 1)" />
        </div>
        <RowPlot
          v-if="row.signals.length"
          :signals="row.signals"
          :against="row.against"
          :where="draft.where || EVERYBODY"
          :by="draft.by"
          :rollout="draft.rollout"
          :range="stretch.range.value"
          :height="row.height"
          page="chart-page"
          @zoom="stretch.zoom"
          @back="stretch.back"
        />
        <RowHandle :height="row.height" :about="row.signals.join(', ') || `row ${at + 1}`" @change="row.height = $event" />
      </div>
      <v-btn v-if="laying" size="small" variant="outlined" @click="addRow">Another row</v-btn>
      <p v-if="!draft.rows.length" class="quiet">A row has one or more signals over time, or against another signal.</p>
    </v-card>
    <v-dialog v-model="dropping" max-width="420">
      <v-card class="panel">
        <h2>Drop {{ page?.name }}?</h2>
        <p class="quiet">{{ page?.shared ? 'Nobody will see this page any more.' : 'The page goes.' }} The readings stay.</p>
        <div class="row mt-3">
          <v-btn variant="text" class="push" @click="dropping = false">Leave it</v-btn>
          <v-btn color="error" @click="drop">Drop</v-btn>
        </div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.choose {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 12px;
  align-items: start;
}
.name {
  flex: 1;
}
.short {
  max-width: 160px;
}
.pick {
  flex: 1;
}
.against {
  max-width: 220px;
}
.edit {
  margin-bottom: 6px;
}
</style>
