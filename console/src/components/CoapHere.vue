<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { moment } from '../words'
import ReasonDialog from './ReasonDialog.vue'

/** How a device speaks CoAP: the numbers of its update object beside their words, where it is registered, and its
 * secret, which can be renewed and is shown that once. */
const props = defineProps<{ id: number; serial: string }>()
const one = ref<Schemas['CoapDeviceOut'] | null>(null)
const made = ref<Schemas['CoapSecret'] | null>(null)
const asked = ref<string | null>(null)
const { failure, reload } = useLoading(async () => {
  one.value = await told(api.GET('/api/v1/coap/devices/{serial}', { params: { path: { serial: props.serial } } }))
})
reloadOn((event) => event.device_id === props.id, reload, 1000)

const DELIVERY: Record<number, string> = { 0: 'it fetches', 1: 'it is written to', 2: 'either' }
const facts = computed(() => {
  const found = one.value
  if (!found) return []
  return [
    ['Registered', found.registered ? `at ${found.address} until ${moment(found.expires_at)}` : `no: ${found.gone || 'it never was'}`],
    ['Hears', found.queue ? 'only after it has spoken (queue mode)' : 'at any time'],
    ['Update object', found.state === null ? 'nothing read yet' : `state ${found.state} (${found.state_word}), result ${found.result} (${found.result_word})`],
    ['Read', moment(found.told_at)],
    ['Given by', found.method ? `${found.method}, blocks of ${found.block} bytes` : 'nothing yet'],
    ['Can', `protocols ${found.protocols.join(', ') || 'not told'}; ${found.delivery === null ? 'delivery not told' : DELIVERY[found.delivery] ?? found.delivery}`],
    ['Known by', found.says_digest ? 'the digest of what it runs' : 'its version alone: the bytes are those released under it'],
    ['Secret', !found.has_secret ? 'none' : found.proved_at ? `proved ${moment(found.proved_at)}` : 'not used yet'],
  ]
})

async function renew(reason: string) {
  made.value = await told(api.POST('/api/v1/coap/devices/{serial}/secret', { params: { path: { serial: props.serial } }, body: { reason } }))
  asked.value = null
  await reload()
}
</script>

<template>
  <v-card class="panel mb-5" data-testid="coap">
    <div class="row">
      <h2>By CoAP</h2>
      <v-btn size="small" class="push" @click="asked = 'renew'">renew its secret …</v-btn>
    </div>
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <dl class="facts">
      <template v-for="[name, value] in facts" :key="name">
        <dt>{{ name }}</dt>
        <dd>{{ value }}</dd>
      </template>
    </dl>
    <v-alert v-if="one?.restarting" type="info" class="mt-3">It was told to switch and is expected to be away: a lost connection is no failure now.</v-alert>
    <v-alert v-if="one?.trouble" type="warning" class="mt-3">Went wrong last, {{ moment(one.trouble_at) }}: {{ one.trouble }}</v-alert>
    <v-alert v-if="made" type="success" class="mt-3" role="status">
      Its new secret, shown this once: <code class="mono secret">{{ made.secret }}</code>
      Sender ID {{ made.sender_id }}, recipient ID {{ made.recipient_id || 'empty' }}. With the former one it is not heard any more.
    </v-alert>
    <ReasonDialog :word="asked" :title="`Give ${serial} another secret`" needs-reason :act="renew" @leave="asked = null">
      <p class="mb-3">The former one ends at once: it is heard again when the new one is in it.</p>
    </ReasonDialog>
  </v-card>
</template>

<style scoped>
.secret {
  display: block;
  overflow-wrap: anywhere;
}
</style>
