<script setup lang="ts">
import { useFeed } from '../stores/feed'

const feed = useFeed()
</script>

<template>
  <v-alert v-if="feed.everConnected && !feed.connected" type="warning" class="ma-3" role="status">
    The line to the service is lost. What you see may be old; it catches up by itself once the service answers.
  </v-alert>
</template>
