<script setup lang="ts">
import { ref } from 'vue'

import { useStyles } from '../stores/styles'

/** Names and colours of lines, which nobody else sees. */
const props = defineProps<{ lines: { signal: string; key: string }[] }>()
const emit = defineEmits<{ leave: [] }>()
const MOST = 24
const PLAIN = '#6f7a80'
const styles = useStyles()
const failure = ref('')
const everywhere = ref(false)
const rows = ref(
  props.lines.slice(0, MOST).map((line) => {
    const now = styles.of(line.signal, line.key)
    return { ...line, name: now.name ?? '', colour: now.colour ?? '', was: JSON.stringify([now.name ?? '', now.colour ?? '']) }
  }),
)

async function keep() {
  try {
    for (const row of rows.value.filter((one) => JSON.stringify([one.name, one.colour]) !== one.was)) {
      const looks = { name: row.name.trim() || null, colour: row.colour || null }
      await styles.set({ series: row.key, signal: everywhere.value ? null : row.signal, ...looks })
      // What is taken back is taken back wherever it was said.
      if (!looks.name && !looks.colour && !everywhere.value) await styles.set({ series: row.key, signal: null, ...looks })
    }
    emit('leave')
  } catch (error) {
    failure.value = (error as Error).message
  }
}
</script>

<template>
  <v-dialog :model-value="true" max-width="640" @update:model-value="emit('leave')">
    <v-card class="panel" data-testid="line-styles">
      <h2>Names and colours</h2>
      <p class="quiet mb-2">Only you see them, on every page.</p>
      <div v-for="row in rows" :key="`${row.signal} ${row.key}`" class="one">
        <span class="quiet">{{ row.signal }} {{ row.key }}</span>
        <v-text-field v-model="row.name" density="compact" hide-details :label="`Name of ${row.key}`" :placeholder="row.key" />
        <input type="color" :value="row.colour || PLAIN" :aria-label="`Colour of ${row.key}`" @input="row.colour = ($event.target as HTMLInputElement).value" />
        <v-btn size="small" variant="text" :disabled="!row.name && !row.colour" @click="row.name = row.colour = ''">as before</v-btn>
      </div>
      <v-checkbox v-model="everywhere" density="compact" hide-details label="in every signal, not only in these" />
      <v-alert v-if="failure" type="error" density="compact">{{ failure }}</v-alert>
      <div class="row mt-3">
        <v-btn variant="text" class="push" @click="emit('leave')">Leave as it is</v-btn>
        <v-btn color="primary" @click="keep">Keep</v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.one {
  display: grid;
  grid-template-columns: 170px 1fr 44px 100px;
  align-items: center;
  gap: 10px;
  margin-bottom: 6px;
}
input[type='color'] {
  width: 40px;
  height: 32px;
  padding: 0;
  border: 0;
  background: none;
}
</style>
