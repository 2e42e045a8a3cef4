<script setup lang="ts">
import { ref } from 'vue'

import { api, told, type Schemas } from '../api/client'

/** Takes a pasted list of serials as a plan's target, and says of each line what a rollout would not serve. */
const props = defineProps<{ release: string }>()
const emit = defineEmits<{ target: [selector: string] }>()
const open = ref(false)
const text = ref('')
const failure = ref('')
const kept = ref<Schemas['ListOut'] | null>(null)

async function take() {
  failure.value = ''
  const [board, line] = props.release.split('/')
  const query = board && line ? { board, line } : {}
  try {
    kept.value = await told(
      api.POST('/api/v1/lists', {
        params: { query },
        body: text.value as never,
        headers: { 'content-type': 'text/plain' },
        bodySerializer: (one: unknown) => one as BodyInit,
      }),
    )
    emit('target', kept.value.target)
    if (!kept.value.remarks.length) open.value = false
  } catch (error) {
    failure.value = (error as Error).message
  }
}
</script>

<template>
  <v-btn size="small" @click="open = true">paste serials …</v-btn>
  <span v-if="kept && !open" class="quiet" role="status">list {{ kept.id }}: {{ kept.devices }} devices</span>
  <v-dialog v-model="open" max-width="620" aria-label="A list of devices as target">
    <v-card class="panel">
      <h2>A list of devices as target</h2>
      <form @submit.prevent="take">
        <v-textarea v-model="text" label="One serial a line" rows="8" class="mono mt-2" spellcheck="false" />
        <v-alert v-if="failure" type="error" class="mb-3" role="alert">{{ failure }}</v-alert>
        <template v-if="kept">
          <p class="mb-2" role="status">
            List {{ kept.id }} names {{ kept.devices }} devices<template v-for="(count, kind) in kept.counts" :key="kind">, {{ count }} {{ kind }}</template>. It is the target now, and stays as it is.
          </p>
          <v-table v-if="kept.remarks.length" class="mb-3">
            <thead>
              <tr><th scope="col" class="count">Line</th><th scope="col">Serial</th><th scope="col">Would not be served</th></tr>
            </thead>
            <tbody>
              <tr v-for="one in kept.remarks.slice(0, 50)" :key="one.line_number">
                <td class="count">{{ one.line_number }}</td>
                <td>{{ one.serial }}</td>
                <td class="wrap">{{ one.kind }}: {{ one.detail }}</td>
              </tr>
            </tbody>
          </v-table>
        </template>
        <div class="row">
          <v-btn type="submit" color="primary" variant="flat" :disabled="!text.trim()">Take as target</v-btn>
          <v-btn @click="open = false">{{ kept ? 'Close' : 'Leave it' }}</v-btn>
        </div>
      </form>
    </v-card>
  </v-dialog>
</template>
