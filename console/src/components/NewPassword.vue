<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, done } from '../api/client'

/** Changes one's own password. `present` is known where one has just signed in with it. */
const props = defineProps<{ present?: string }>()
const emit = defineEmits<{ changed: [] }>()
const LEAST = 10
const old = ref('')
const fresh = ref('')
const again = ref('')
const failure = ref('')
const ready = computed(() => fresh.value.length >= LEAST && fresh.value === again.value)

async function change() {
  failure.value = ''
  try {
    await done(api.PUT('/api/v1/session/password', { body: { old: props.present ?? old.value, new: fresh.value } }))
    emit('changed')
  } catch (error) {
    failure.value = (error as Error).message
  }
}
</script>

<template>
  <form @submit.prevent="change">
    <v-text-field v-if="present === undefined" v-model="old" label="Present password" type="password" autocomplete="current-password" required />
    <v-text-field
      v-model="fresh"
      label="New password"
      type="password"
      name="new-password"
      autocomplete="new-password"
      :hint="`at least ${LEAST} characters`"
      persistent-hint
      required
    />
    <v-text-field v-model="again" label="New password, once more" type="password" name="once-more" autocomplete="new-password" required />
    <v-alert v-if="failure" type="error" class="mb-4" role="alert">{{ failure }}</v-alert>
    <v-btn type="submit" color="primary" variant="flat" :disabled="!ready">Change it</v-btn>
  </form>
</template>
