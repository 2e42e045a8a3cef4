<script setup lang="ts">
import { computed } from 'vue'

import type { Rollout } from '../api/client'

/** Where a rollout stands and, once that is known, what it came to: green only if nothing of it went wrong for good. */
const props = defineProps<{ rollout: Pick<Rollout, 'state' | 'outcome'> }>()
const COLOURS: Record<string, string> = { running: 'info', held: 'warning', halted: 'error' }
const OUTCOMES: Record<string, string> = { 'carried-out': 'success', halted: 'error', 'rolled-back': 'error', 'cut-short': 'warning' }

const colour = computed(() => (props.rollout.outcome ? OUTCOMES[props.rollout.outcome] : COLOURS[props.rollout.state]))
const words = computed(() => (props.rollout.outcome && props.rollout.outcome !== props.rollout.state ? `${props.rollout.state}, ${props.rollout.outcome}` : props.rollout.state))
</script>

<template>
  <v-chip :color="colour" size="small" label>{{ words }}</v-chip>
</template>
