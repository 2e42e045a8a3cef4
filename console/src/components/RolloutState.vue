<script setup lang="ts">
const COLOURS: Record<string, string> = {
  running: 'info',
  held: 'warning',
  halted: 'error',
  finished: 'success',
}
defineProps<{ state: string }>()
</script>

<template>
  <v-chip :color="COLOURS[state]" size="small" label>{{ state }}</v-chip>
</template>
