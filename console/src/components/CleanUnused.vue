<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { amount, moment } from '../words'

const emit = defineEmits<{ cleaned: [] }>()
const unused = ref<Schemas['UnusedRelease'][]>([])
const asked = ref(false)
const failure = ref('')
const { reload } = useLoading(async () => {
  unused.value = await told(api.GET('/api/v1/unused_releases'))
})
reloadOn((event) => event.kind === 'release' || event.kind === 'rollout', reload, 3000)
const frees = computed(() => unused.value.reduce((all, one) => all + one.bytes, 0))

async function clean() {
  failure.value = ''
  try {
    await told(api.POST('/api/v1/unused_releases/clean', { body: { releases: unused.value.map((one) => one.id) } }))
    asked.value = false
    await reload()
    emit('cleaned')
  } catch (error) {
    failure.value = (error as Error).message
    await reload()
  }
}
</script>

<template>
  <v-card v-if="unused.length" class="panel">
    <div class="row">
      <span>{{ unused.length === 1 ? 'One release is' : `${unused.length} releases are` }} needed by no device and no rollback.</span>
      <v-btn size="small" class="push" @click="asked = true">Show what could go</v-btn>
    </div>
    <v-dialog v-model="asked" max-width="620">
      <v-card class="panel">
        <h2>Clean images away</h2>
        <p class="mb-2">Their records stay, and the same release file brings the images back. This frees {{ amount(frees) }}.</p>
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
        <v-alert v-if="failure" type="error" class="mb-4" role="alert">{{ failure }}</v-alert>
        <div class="row">
          <v-btn color="error" variant="flat" @click="clean">Clean away</v-btn>
          <v-btn @click="asked = false">Leave it</v-btn>
        </div>
      </v-card>
    </v-dialog>
  </v-card>
</template>
