<script setup lang="ts">
import MarkdownIt from 'markdown-it'
import { computed, ref } from 'vue'

import { api, told, type Release } from '../api/client'

const props = defineProps<{ release: Release }>()
const emit = defineEmits<{ done: [] }>()

// HTML in notes stays text, and markdown-it refuses javascript: links by itself.
const markdown = new MarkdownIt({ html: false, linkify: false })
const shown = computed(() => markdown.render(props.release.notes ?? ''))
const editing = ref(false)
const notes = ref('')
const labels = ref('')
const failure = ref('')

function edit() {
  notes.value = props.release.notes ?? ''
  labels.value = Object.entries(props.release.labels ?? {}).map(([key, value]) => `${key}=${value}`).join('\n')
  failure.value = ''
  editing.value = true
}

async function save() {
  const pairs = labels.value.split('\n').filter((line) => line.trim())
  if (pairs.some((line) => !line.includes('='))) {
    failure.value = 'A label is written as key=value, one on each line.'
    return
  }
  const said = Object.fromEntries(pairs.map((line) => [line.slice(0, line.indexOf('=')).trim(), line.slice(line.indexOf('=') + 1).trim()]))
  const params = { path: { release_id: props.release.id }, header: { 'If-Match': `"${props.release.revision}"` } }
  try {
    await told(api.PATCH('/api/v1/releases/{release_id}', { params, body: { notes: notes.value, labels: said } }))
    editing.value = false
    emit('done')
  } catch (error) {
    failure.value = (error as Error).message
  }
}
</script>

<template>
  <v-card class="panel">
    <div class="row mb-2">
      <h2 class="mb-0">Notes</h2>
      <span v-for="(value, key) in release.labels" :key="key" class="label">{{ key }} = {{ value }}</span>
      <v-btn v-if="!editing" size="small" class="push" @click="edit">Edit</v-btn>
    </div>
    <form v-if="editing" @submit.prevent="save">
      <v-textarea v-model="notes" label="Notes (Markdown)" rows="6" variant="outlined" />
      <v-textarea v-model="labels" label="Labels, key=value, one on each line" rows="2" variant="outlined" />
      <v-alert v-if="failure" type="error" class="mb-3" role="alert">{{ failure }}</v-alert>
      <div class="row">
        <v-btn type="submit" color="primary" variant="flat" size="small">Save</v-btn>
        <v-btn size="small" @click="editing = false">Leave it</v-btn>
      </div>
    </form>
    <!-- eslint-disable-next-line vue/no-v-html -->
    <div v-else-if="release.notes" class="notes" v-html="shown" />
    <p v-else class="quiet">None.</p>
  </v-card>
</template>

<style scoped>
.label {
  padding: 1px 8px;
  border-radius: 9px;
  font-size: 12px;
  background: rgba(var(--v-theme-on-surface), 0.08);
}
.notes :deep(h1),
.notes :deep(h2),
.notes :deep(h3) {
  font-size: 14px;
  font-weight: 600;
  margin: 10px 0 4px;
}
.notes :deep(ul),
.notes :deep(ol) {
  padding-left: 20px;
}
.notes :deep(pre) {
  overflow-x: auto;
}
</style>
