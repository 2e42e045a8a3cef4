<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { amount, moment } from '../words'

const emit = defineEmits<{ cleaned: [] }>()
const unused = ref<Schemas['UnusedRelease'][]>([])
const asked = ref(false)
const failure = ref('')

// Asked for only when somebody wants to know: the answer takes a look at every device.
async function show() {
  failure.value = ''
  try {
    unused.value = await told(api.GET('/api/v1/unused_releases'))
  } catch (error) {
    failure.value = (error as Error).message
  }
  asked.value = true
}
const frees = computed(() => unused.value.reduce((all, one) => all + one.bytes, 0))

async function clean() {
  failure.value = ''
  try {
    await told(api.POST('/api/v1/unused_releases/clean', { body: { releases: unused.value.map((one) => one.id) } }))
    asked.value = false
    emit('cleaned')
  } catch (error) {
    failure.value = (error as Error).message
  }
}
</script>

<template>
  <v-btn size="small" @click="show">What could be cleaned away?</v-btn>
  <v-dialog v-model="asked" max-width="620" aria-label="Clean images away">
    <v-card class="panel">
      <h2>Clean images away</h2>
      <p v-if="unused.length" class="mb-2">
        No device runs these and no rollback needs them. Their records stay, and the same release file brings the images back. This frees
        {{ amount(frees) }}.
      </p>
      <p v-else class="mb-4">Nothing: every release is needed.</p>
      <template v-if="unused.length">
        <v-table class="mb-4">
          <thead>
            <tr><th scope="col">Release</th><th scope="col">State</th><th scope="col">Published</th><th scope="col" class="count">Frees</th></tr>
          </thead>
          <tbody>
            <tr v-for="one in unused" :key="one.id">
              <td>{{ one.name }}</td>
              <td>{{ one.state }}</td>
              <td>{{ moment(one.published_at) }}</td>
              <td class="count">{{ amount(one.bytes) }}</td>
            </tr>
          </tbody>
        </v-table>
      </template>
        <v-alert v-if="failure" type="error" class="mb-4" role="alert">{{ failure }}</v-alert>
        <div class="row">
          <v-btn v-if="unused.length" color="error" variant="flat" @click="clean">Clean away</v-btn>
          <v-btn @click="asked = false">Leave it</v-btn>
        </div>
    </v-card>
  </v-dialog>
</template>
