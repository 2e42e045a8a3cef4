<script setup lang="ts">
import EmptyState from '../components/EmptyState.vue'
</script>

<template>
  <div class="page">
    <v-card>
      <EmptyState title="There is no such page"><router-link to="/">Now</router-link> is a good place to start.</EmptyState>
    </v-card>
  </div>
</template>
