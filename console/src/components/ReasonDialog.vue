<script setup lang="ts">
import { ref, watch } from 'vue'

/** Asks before something is done: what it does in the slot, a reason where one is needed, then `act`. With
 * `fieldsFirst` the reason does not take the focus, which comes late and would steal what is typed into them. */
const props = defineProps<{ word: string | null; title: string; needsReason: boolean; fieldsFirst?: boolean; act: (reason: string) => Promise<void> }>()
const emit = defineEmits<{ leave: [] }>()
const LEAST = 3
const reason = ref('')
const failure = ref('')

watch(
  () => props.word,
  () => (reason.value = failure.value = ''),
)

async function submit() {
  try {
    await props.act(reason.value)
  } catch (error) {
    failure.value = (error as Error).message
  }
}
</script>

<template>
  <v-dialog :model-value="word !== null" max-width="540" :aria-label="title" @update:model-value="emit('leave')">
    <v-card v-if="word" class="panel">
      <h2>{{ title }}</h2>
      <slot />
      <form @submit.prevent="submit">
        <v-text-field v-if="needsReason" v-model="reason" label="Reason, for the journal" :autofocus="!fieldsFirst" />
        <v-alert v-if="failure" type="error" class="mb-4" role="alert">{{ failure }}</v-alert>
        <div class="row">
          <v-btn type="submit" color="primary" variant="flat" :disabled="needsReason && reason.trim().length < LEAST">{{ word }}</v-btn>
          <v-btn @click="emit('leave')">Leave it</v-btn>
        </div>
      </form>
    </v-card>
  </v-dialog>
</template>
