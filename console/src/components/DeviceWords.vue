<script setup lang="ts">
import { ref } from 'vue'

import { api, told, type DeviceDetail } from '../api/client'
import { listed } from '../words'

const props = defineProps<{ device: DeviceDetail }>()
const emit = defineEmits<{ done: [] }>()
const editing = ref(false)
const labels = ref('')
const note = ref('')
const failure = ref('')

function edit() {
  labels.value = Object.entries(props.device.labels).map(([key, value]) => `${key}=${value}`).join('\n')
  note.value = props.device.note ?? ''
  failure.value = ''
  editing.value = true
}

async function save() {
  const lines = labels.value.split('\n').filter((line) => line.trim())
  if (lines.some((line) => !line.includes('='))) {
    failure.value = 'A label is written as key=value, one on each line.'
    return
  }
  const said: Record<string, string | null> = Object.fromEntries(Object.keys(props.device.labels).map((key) => [key, null]))
  for (const line of lines) said[line.slice(0, line.indexOf('=')).trim()] = line.slice(line.indexOf('=') + 1).trim()
  try {
    const params = { path: { serial: props.device.serial } }
    await told(api.PATCH('/api/v1/devices/{serial}', { params, body: { labels: said, note: note.value } }))
    editing.value = false
    emit('done')
  } catch (error) {
    failure.value = (error as Error).message
  }
}
</script>

<template>
  <span>{{ listed(device.labels, ' = ') || 'no labels' }}</span>
  <span v-if="device.note" class="quiet"> · {{ device.note }}</span>
  <v-btn size="x-small" class="ml-2" @click="edit">Edit</v-btn>
  <v-dialog v-model="editing" max-width="520" :aria-label="`Labels and note of ${device.serial}`">
    <v-card class="panel">
      <h2>Labels and note of {{ device.serial }}</h2>
      <form @submit.prevent="save">
        <v-textarea v-model="labels" label="Labels, key=value, one on each line" rows="4" variant="outlined" />
        <v-text-field v-model="note" label="Note" />
        <v-alert v-if="failure" type="error" class="mb-3" role="alert">{{ failure }}</v-alert>
        <div class="row">
          <v-btn type="submit" color="primary" variant="flat">Save</v-btn>
          <v-btn @click="editing = false">Leave it</v-btn>
        </div>
      </form>
    </v-card>
  </v-dialog>
</template>
