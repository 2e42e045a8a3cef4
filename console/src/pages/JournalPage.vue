<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, told, type JournalEntry } from '../api/client'
import EmptyState from '../components/EmptyState.vue'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { moment } from '../words'

type Filter = { by: string; what: string; subject: string; text: string; since: string; until: string; enrolments: boolean }
const TEXTS = ['by', 'what', 'subject', 'text', 'since', 'until'] as const
const LABELS: Record<(typeof TEXTS)[number], string> = {
  by: 'Who',
  what: 'What',
  subject: 'Subject',
  text: 'Words anywhere',
  since: 'Since (service time)',
  until: 'Until',
}
const PAUSE_MS = 300
const route = useRoute()
const router = useRouter()
const entries = ref<JournalEntry[]>([])
const next = ref<string | null>(null)
const wanted = ref<Filter>(read())

function read(): Filter {
  const said = (name: string) => String(route.query[name] ?? '')
  return { ...(Object.fromEntries(TEXTS.map((name) => [name, said(name)])) as Omit<Filter, 'enrolments'>), enrolments: said('enrolments') === 'yes' }
}

const query = computed(() => {
  const texts = Object.fromEntries(TEXTS.filter((name) => wanted.value[name]?.trim()).map((name) => [name, wanted.value[name].trim()]))
  return { ...texts, decisions: !wanted.value.enrolments }
})
const filtered = computed(() => TEXTS.some((name) => wanted.value[name]?.trim()))
const { failure, loaded, reload } = useLoading(async () => {
  const page = await told(api.GET('/api/v1/journal', { params: { query: { ...query.value, limit: Math.max(100, entries.value.length) } } }))
  entries.value = page.items
  next.value = page.next ?? null
})
reloadOn((event) => event.kind !== 'attempt' && event.kind !== 'device', reload, 1000)

let waiting = 0
watch(
  wanted,
  () => {
    window.clearTimeout(waiting)
    waiting = window.setTimeout(async () => {
      entries.value = []
      const texts = Object.fromEntries(TEXTS.filter((name) => wanted.value[name]).map((name) => [name, wanted.value[name]]))
      await router.replace({ query: { ...texts, ...(wanted.value.enrolments ? { enrolments: 'yes' } : {}) } })
      await reload()
    }, PAUSE_MS)
  },
  { deep: true },
)

const exported = (format: 'csv' | 'jsonl') =>
  `/api/v1/journal/export?${new URLSearchParams({ format, ...Object.fromEntries(Object.entries(query.value).map(([name, value]) => [name, String(value)])) })}`

// What the service found when it computed every hash anew.
const verdict = ref<{ good: boolean; text: string } | null>(null)
const verifying = ref(false)
async function verify() {
  verifying.value = true
  try {
    const check = await told(api.GET('/api/v1/journal/check'))
    verdict.value =
      check.broken === null
        ? { good: true, text: `All ${check.links} links follow each other; note the last to prove it later: ${check.links}:${check.hash}` }
        : { good: false, text: `Link ${check.broken} does not follow from the one before: an entry was changed, left out or added after it was written.` }
  } catch (error) {
    verdict.value = { good: false, text: (error as Error).message }
  } finally {
    verifying.value = false
  }
}

async function more() {
  const page = await told(api.GET('/api/v1/journal', { params: { query: { ...query.value, limit: 100, after: Number(next.value) } } }))
  entries.value.push(...page.items)
  next.value = page.next ?? null
}
</script>

<template>
  <div class="page">
    <div class="row mb-3">
      <h1>Journal</h1>
      <v-checkbox v-model="wanted.enrolments" label="with devices that enrolled" density="compact" hide-details class="push" />
      <v-btn variant="outlined" :loading="verifying" @click="verify">Verify</v-btn>
      <v-btn variant="outlined" :href="exported('csv')" download>Export CSV</v-btn>
      <v-btn variant="outlined" :href="exported('jsonl')" download>Export JSON Lines</v-btn>
    </div>
    <v-alert v-if="verdict" :type="verdict.good ? 'success' : 'error'" class="mb-3" closable role="status" @click:close="verdict = null">{{ verdict.text }}</v-alert>
    <form class="filters mb-3" role="search" aria-label="Filter the journal" @submit.prevent="reload">
      <v-text-field
        v-for="name in TEXTS"
        :key="name"
        v-model="wanted[name]"
        :label="LABELS[name]"
        :placeholder="name === 'since' || name === 'until' ? '2026-11-29 09:00' : undefined"
        density="compact"
        hide-details
        clearable
        @click:clear="wanted[name] = ''"
      />
    </form>
    <v-alert v-if="failure" type="error" class="mb-3">{{ failure }}</v-alert>
    <v-card v-if="entries.length">
      <v-table>
        <thead>
          <tr>
            <th scope="col" class="count">Link</th>
            <th scope="col">At (service time)</th>
            <th scope="col">Who</th>
            <th scope="col">What</th>
            <th scope="col">Subject</th>
            <th scope="col">Why</th>
            <th scope="col">Hash</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="entry in entries" :key="entry.link">
            <td class="count">{{ entry.link }}</td>
            <td class="text-no-wrap">{{ moment(entry.at) }}</td>
            <td>{{ entry.who }}</td>
            <td>{{ entry.what }}</td>
            <td>{{ entry.subject }}</td>
            <td class="wrap">{{ entry.why }}</td>
            <td class="mono quiet">{{ entry.hash.slice(0, 8) }}</td>
          </tr>
        </tbody>
      </v-table>
      <div v-if="next" class="pa-3"><v-btn @click="more">Show 100 more</v-btn></div>
    </v-card>
    <v-card v-else-if="loaded && !failure">
      <EmptyState v-if="filtered" title="Nothing in the journal fits">Take a filter away, or show devices that enrolled.</EmptyState>
      <EmptyState v-else title="Nothing was decided yet" command="herald board add BOARD.toml">What anybody or the conductor decides is written here for good.</EmptyState>
    </v-card>
  </div>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(160px, 1fr));
  gap: 8px;
}
</style>
