<script setup lang="ts">
defineProps<{ title: string; command?: string }>()
</script>

<template>
  <div class="empty">
    <strong>{{ title }}</strong>
    <p class="quiet"><slot /></p>
    <code v-if="command" class="mono">{{ command }}</code>
  </div>
</template>

<style scoped>
.empty {
  padding: 36px 20px;
  text-align: center;
}
code {
  display: inline-block;
  margin-top: 8px;
  padding: 6px 10px;
  border-radius: 6px;
  background: rgba(var(--v-theme-on-surface), 0.07);
}
</style>
