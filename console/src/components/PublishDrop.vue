<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { kindOf, quoted, sendRelease, type Refusal } from '../upload'
import { amount } from '../words'
import CheckLines from './CheckLines.vue'

const emit = defineEmits<{ published: [] }>()
const router = useRouter()
const over = ref(false)
const file = ref<File | null>(null)
const kind = ref('')
const draft = ref(false)
const share = ref<number | null>(null)
const refusal = ref<Refusal | null>(null)
const input = ref<HTMLInputElement>()

async function take(taken: File | undefined) {
  over.value = false
  if (!taken) return
  refusal.value = share.value = null
  kind.value = await kindOf(taken)
  file.value = taken
}

async function send() {
  if (!file.value) return
  refusal.value = null
  share.value = 0
  try {
    const release = await sendRelease(file.value, draft.value, (done) => (share.value = done))
    file.value = null
    emit('published')
    await router.push(`/lineage/${release.id}`)
  } catch (error) {
    refusal.value = error as Refusal
  } finally {
    share.value = null
  }
}
</script>

<template>
  <v-card
    class="panel drop"
    :class="{ over }"
    @dragover.prevent="over = true"
    @dragleave.prevent="over = false"
    @drop.prevent="take($event.dataTransfer?.files[0])"
  >
    <div class="row">
      <strong>Publish</strong>
      <span class="quiet">Drop a release file (.suit) or firmware here.</span>
      <v-btn size="small" class="push" @click="input?.click()">Choose a file</v-btn>
      <input ref="input" type="file" hidden aria-label="File to publish" @change="take(($event.target as HTMLInputElement).files?.[0])" />
    </div>
    <div v-if="file && kind === 'release file'" class="mt-3">
      <div class="row">
        <span class="mono wrap">{{ file.name }}</span>
        <span class="quiet">{{ kind }}, {{ amount(file.size) }}</span>
        <v-checkbox v-model="draft" label="Keep as a draft" density="compact" hide-details class="push" />
        <v-btn size="small" color="primary" variant="flat" :disabled="share !== null" @click="send">Publish</v-btn>
      </div>
      <v-progress-linear v-if="share !== null" :model-value="100 * share" color="accent" height="6" rounded class="mt-3" :aria-label="`${Math.round(100 * share)} % sent`" />
    </div>
    <div v-else-if="file" class="mt-3">
      <p>
        <span class="mono">{{ file.name }}</span> is firmware ({{ kind }}, {{ amount(file.size) }}), not a signed release. This page has
        no key: sign it where the key is. Look first, then publish:
      </p>
      <pre class="mono lines">herald image look {{ quoted(file.name) }}
herald release publish {{ quoted(file.name) }} --key KEY.pem</pre>
    </div>
    <div v-if="refusal" role="alert" class="mt-3">
      <v-alert type="error" class="mb-2">{{ refusal.detail }}</v-alert>
      <CheckLines :checks="refusal.checks" />
    </div>
  </v-card>
</template>

<style scoped>
.drop {
  border-style: dashed !important;
}
.over {
  background: rgba(217, 154, 43, 0.14);
}
.lines {
  padding: 8px 12px;
  border-radius: 6px;
  background: rgba(var(--v-theme-on-surface), 0.07);
  white-space: pre-wrap;
}
</style>
