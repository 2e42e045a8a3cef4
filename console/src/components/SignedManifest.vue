<script setup lang="ts">
import { ref } from 'vue'

import type { Release, Schemas } from '../api/client'

defineProps<{ release: Release; manifest: Schemas['ManifestOut'] }>()
const view = ref<'words' | 'cbor'>('words')
</script>

<template>
  <v-card class="panel">
    <div class="row mb-3">
      <h2 class="mb-0">Manifest</h2>
      <span class="quiet">{{ manifest.size }} bytes, as devices verify it</span>
      <a :href="`/api/v1/releases/${release.id}/envelope`" :download="`${release.version}-envelope.suit`" class="push">Download the envelope</a>
      <v-btn-toggle v-model="view" mandatory density="compact" aria-label="How the manifest is shown">
        <v-btn value="words" size="small">In words</v-btn>
        <v-btn value="cbor" size="small">CBOR diagnostic</v-btn>
      </v-btn-toggle>
    </div>
    <dl v-if="view === 'words'" class="facts">
      <dt>release</dt>
      <dd>{{ release.version }} of {{ release.line }} for {{ release.board }}</dd>
      <dt>floor number</dt>
      <dd>{{ release.floor }}; a device that has confirmed a higher one refuses it</dd>
      <dt>hardware revisions</dt>
      <dd>{{ release.hw_rev_min }} to {{ release.hw_rev_max }}</dd>
      <dt>needs running</dt>
      <dd>
        <span v-if="!Object.keys(release.needs ?? {}).length">nothing in particular</span>
        <span v-for="(least, name) in release.needs" :key="name">{{ name }} {{ least }} or later </span>
      </dd>
      <dt>switched</dt>
      <dd>
        {{ manifest.switch_order.map((group) => group.join(' and ')).join(', then ') }}<template v-if="manifest.switch_order.flat().length > 1">;
          {{ release.independent ? 'what is switched stays if another fails' : 'all go back if one fails' }}</template>
      </dd>
      <dt>vendor</dt>
      <dd>{{ manifest.vendor_domain }} <span class="mono quiet">{{ manifest.vendor_id }}</span></dd>
      <dt>class</dt>
      <dd class="mono">{{ manifest.class_id }}</dd>
      <dt>signed by</dt>
      <dd><span class="mono">{{ manifest.key }}</span> {{ manifest.key_name }} <span class="quiet">({{ manifest.key_status }})</span></dd>
      <dt>digest</dt>
      <dd class="mono">{{ release.manifest }}</dd>
    </dl>
    <pre v-else class="mono" tabindex="0" aria-label="Manifest in CBOR diagnostic notation">{{ manifest.diagnostic }}</pre>
  </v-card>
</template>

<style scoped>
pre {
  max-height: 460px;
  overflow: auto;
  white-space: pre-wrap;
  padding: 10px 12px;
  border-radius: 6px;
  background: rgba(var(--v-theme-on-surface), 0.05);
}
</style>
