<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'

/** What failing devices have in common; `stamp` changes when there may be something new to see. */
const props = defineProps<{ rolloutId: number; stamp: string; canResume: boolean }>()
const emit = defineEmits<{ leaveOut: [selector: string] }>()
const found = ref<Schemas['SuspectsOut'] | null>(null)
const copied = ref('')

const { failure, reload } = useLoading(async () => {
  found.value = await told(api.GET('/api/v1/rollouts/{rollout_id}/suspects', { params: { path: { rollout_id: props.rolloutId } } }))
})
watch(() => props.stamp, reload)

function percent(share: number): string {
  return `${Math.round(100 * share)} %`
}
async function copy(selector: string) {
  await navigator.clipboard.writeText(selector)
  copied.value = selector
}
</script>

<template>
  <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
  <template v-if="found">
    <p class="mb-2">{{ found.words }} <span class="quiet">({{ found.kind }})</span></p>
    <p v-if="found.candidate" class="mb-2" data-testid="candidate">
      <code class="mono">{{ found.candidate.selector }}</code>
      <v-btn size="x-small" variant="text" :aria-label="`Copy ${found.candidate.selector}`" @click="copy(found.candidate.selector)">{{ copied === found.candidate.selector ? 'copied' : 'copy' }}</v-btn>
      <v-btn v-if="canResume" size="x-small" variant="text" :aria-label="`Resume without ${found.candidate.selector}`" @click="emit('leaveOut', found.candidate.selector)">resume without</v-btn>
    </p>
    <v-table v-if="found.suspects.length" density="compact">
      <thead>
        <tr>
          <th scope="col">Suspect</th>
          <th scope="col" class="count">Bad</th>
          <th scope="col" class="count">Others bad</th>
          <th scope="col" class="count" title="Of the rates, in points, with its 95 % interval">Difference</th>
          <th scope="col">Selector</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in found.suspects" :key="one.selector" data-testid="suspect">
          <td><strong>{{ one.words }}</strong></td>
          <td class="count">{{ one.bad }} of {{ one.devices }} <span class="quiet">{{ percent(one.rate) }}</span></td>
          <td class="count">{{ one.other_bad }} of {{ one.others }} <span class="quiet">{{ percent(one.other_rate) }}</span></td>
          <td class="count">+{{ Math.round(100 * one.difference) }} <span class="quiet">({{ Math.round(100 * one.low) }} … {{ Math.round(100 * one.high) }})</span></td>
          <td>
            <code class="mono">{{ one.selector }}</code>
            <v-btn size="x-small" variant="text" :aria-label="`Copy ${one.selector}`" @click="copy(one.selector)">{{ copied === one.selector ? 'copied' : 'copy' }}</v-btn>
            <v-btn v-if="canResume" size="x-small" variant="text" :aria-label="`Resume without ${one.selector}`" @click="emit('leaveOut', one.selector)">resume without</v-btn>
          </td>
        </tr>
      </tbody>
    </v-table>
    <p v-if="found.suspects.length" class="quiet mt-2">Fisher's exact test; of all that are named, at most {{ percent(found.false_rate) }} are expected to be false.</p>
  </template>
</template>
