<script setup lang="ts">
import type { Schemas } from '../api/client'

/** What can be done where somebody has to choose: each with a button and how many devices it touches. */
defineProps<{ choices: Schemas['ChoiceOut'][] }>()
const emit = defineEmits<{ choose: [choice: Schemas['ChoiceOut']] }>()
const WORDS: Record<string, string> = { failures: 'look', suspects: 'look', enough: 'ask less', 'leave-out': 'leave out', 'roll-back': 'roll back', budget: 'allow more', evidence: 'look', choose: 'compare' }
</script>

<template>
  <ul class="choices">
    <li v-for="choice in choices" :key="choice.do" class="row">
      <v-btn v-if="choice.do !== 'wait'" size="x-small" variant="outlined" class="choice" :data-testid="`choice-${choice.do}`" :aria-label="`${WORDS[choice.do] ?? choice.do}: ${choice.words}`" @click="emit('choose', choice)">
        {{ WORDS[choice.do] ?? choice.do }}
      </v-btn>
      <span>{{ choice.words }}<template v-if="choice.devices !== null"> · {{ choice.devices }} {{ choice.devices === 1 ? 'device' : 'devices' }}</template></span>
    </li>
  </ul>
</template>

<style scoped>
.choices {
  display: grid;
  gap: 4px;
  padding: 0;
  list-style: none;
}
.choice {
  min-width: 88px;
}
</style>
