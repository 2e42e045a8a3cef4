<script setup lang="ts">
import { computed } from 'vue'

import { RANGES, spanInWords } from '../readings'
import type { Stretch } from '../stretch'

/** How far back the plots below look, and the way back from a closer look. */
const props = defineProps<{ stretch: Stretch }>()
const { seconds, live, range } = props.stretch
// A page may look back as far as it likes, not only as far as there are buttons for.
const spans = computed(() => (RANGES.some((one) => one.seconds === seconds.value) ? RANGES : [{ title: spanInWords(seconds.value), seconds: seconds.value }, ...RANGES]))
const stamp = (at: number) => new Date(at * 1000).toISOString().slice(5, 19).replace('T', ' ')
</script>

<template>
  <div class="row mb-2">
    <v-btn-toggle :model-value="live ? seconds : null" density="compact" variant="outlined" aria-label="How far back">
      <v-btn v-for="one in spans" :key="one.seconds" :value="one.seconds" size="small" @click="stretch.choose(one.seconds)">{{ one.title }}</v-btn>
    </v-btn-toggle>
    <span v-if="live" class="quiet">follows what comes in; drag over a plot to look closer</span>
    <template v-else>
      <span class="quiet" data-testid="stretch">{{ stamp(range.begin) }} to {{ stamp(range.end) }}</span>
      <v-btn size="small" @click="stretch.back">back</v-btn>
    </template>
  </div>
</template>
