<script setup lang="ts">
import EmptyState from '../components/EmptyState.vue'
</script>

<template>
  <div class="page">
    <h1 class="mb-3">There is no such page</h1>
    <v-card>
      <EmptyState title="Lost?"><router-link to="/">Now</router-link> is a good place to start.</EmptyState>
    </v-card>
  </div>
</template>
