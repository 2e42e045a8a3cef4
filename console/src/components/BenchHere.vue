<script setup lang="ts">
import { ref } from 'vue'

import { api, told, type DeviceDetail } from '../api/client'
import { installBuild, kindOf, quoted, type Refusal } from '../upload'
import CheckLines from './CheckLines.vue'
import ReasonDialog from './ReasonDialog.vue'

/** Marks a device as a bench device, and brings it builds that were sealed where the key is. */
const props = defineProps<{ device: DeviceDetail }>()
const emit = defineEmits<{ done: [] }>()
const asked = ref<string | null>(null)
const picker = ref<HTMLInputElement | null>(null)
const refusal = ref<Refusal | null>(null)
const hint = ref('')

async function mark(reason: string) {
  await told(api.POST('/api/v1/labels', { body: { serials: [props.device.serial], on_bench: !props.device.on_bench, labels: {}, reason } }))
  asked.value = null
  emit('done')
}

async function choose() {
  const file = picker.value?.files?.[0]
  if (picker.value) picker.value.value = ''
  if (!file) return
  refusal.value = null
  hint.value = ''
  if ((await kindOf(file)) !== 'release file') {
    hint.value = `herald device install ${props.device.serial} ${quoted(file.name)} --key KEY`
    return
  }
  await installBuild(props.device.serial, file).then(() => emit('done')).catch((error: Refusal) => (refusal.value = error))
}
</script>

<template>
  <template v-if="device.on_bench">
    <v-btn size="small" @click="picker?.click()">install a sealed build …</v-btn>
    <input ref="picker" type="file" hidden aria-label="A sealed build for this device" @change="choose" />
  </template>
  <v-btn size="small" @click="asked = 'mark'">{{ device.on_bench ? 'off the bench …' : 'to the bench …' }}</v-btn>
  <ReasonDialog :word="asked" :title="device.on_bench ? `${device.serial} is no bench device any more` : `${device.serial} is a bench device`" needs-reason :act="mark" @leave="asked = null">
    <p class="mb-3">
      {{ device.on_bench ? 'It gets releases only, from now on. A bench build that it runs stays until it is overwritten in so many words.' : 'Local builds may be brought to it, over whatever it runs: no release, no version used up. No rollout overwrites them unasked.' }}
    </p>
  </ReasonDialog>
  <v-alert v-if="hint" type="info" class="wide" role="status">Firmware is sealed where the key is; the browser has none: <code class="mono">{{ hint }}</code></v-alert>
  <v-alert v-if="refusal" type="error" class="wide" role="alert">{{ refusal.detail }}<CheckLines v-if="refusal.checks.length" :checks="refusal.checks" /></v-alert>
</template>

<style scoped>
.wide {
  flex-basis: 100%;
}
</style>
