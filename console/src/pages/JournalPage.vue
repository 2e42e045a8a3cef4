<script setup lang="ts">
import { ref } from 'vue'

import { api, told, type JournalEntry } from '../api/client'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { moment } from '../words'

const entries = ref<JournalEntry[]>([])
const next = ref<string | null>(null)
const { failure, reload } = useLoading(async () => {
  const page = await told(api.GET('/api/v1/journal', { params: { query: { limit: Math.max(100, entries.value.length) } } }))
  entries.value = page.items
  next.value = page.next ?? null
})
reloadOn((event) => event.kind !== 'attempt' && event.kind !== 'device', reload, 1000)

async function more() {
  const page = await told(api.GET('/api/v1/journal', { params: { query: { limit: 100, after: Number(next.value) } } }))
  entries.value.push(...page.items)
  next.value = page.next ?? null
}
</script>

<template>
  <div class="page">
    <h1 class="mb-3">Journal</h1>
    <v-alert v-if="failure" type="error" class="mb-3">{{ failure }}</v-alert>
    <v-card>
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
  </div>
</template>
