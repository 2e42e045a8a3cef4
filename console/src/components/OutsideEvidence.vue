<script setup lang="ts">
import { ref } from 'vue'

import { api, told, type Schemas } from '../api/client'
import { useLoading } from '../loading'
import { reloadOn } from '../stores/feed'
import { moment } from '../words'
import ReasonDialog from './ReasonDialog.vue'

/** What was heard outside about a rollout: filed, looked at, withdrawn. */
const props = defineProps<{ rolloutId: number }>()
const emit = defineEmits<{ done: [] }>()
type Evidence = Schemas['EvidenceOut']
const found = ref<Schemas['EvidenceListOut'] | null>(null)
const word = ref<'file' | 'acknowledge' | 'withdraw' | null>(null)
const about = ref<Evidence | null>(null)
const kind = ref('support-call')
const serial = ref('')
const text = ref('')
const unrelated = ref(false)

const { reload, failure } = useLoading(async () => {
  found.value = await told(api.GET('/api/v1/rollouts/{rollout_id}/evidence', { params: { path: { rollout_id: props.rolloutId } } }))
})
reloadOn((event) => event.rollout_id === props.rolloutId && event.kind === 'rollout', reload, 600)

function ask(what: 'acknowledge' | 'withdraw', one: Evidence) {
  about.value = one
  unrelated.value = false
  word.value = what
}
function became(one: Evidence): string {
  if (one.withdrawn_by) return `withdrawn by ${one.withdrawn_by}: ${one.withdrawn_why}`
  if (one.acknowledged_by) return `acknowledged by ${one.acknowledged_by}${one.unrelated ? ', unrelated' : ''}: ${one.acknowledged_why}`
  if (one.counts) return 'counts as bad'
  return one.waits ? 'the next ring waits until somebody has looked' : 'it had not the release then'
}
async function act(reason: string) {
  const rollout = { rollout_id: props.rolloutId }
  if (word.value === 'file') {
    await told(api.POST('/api/v1/rollouts/{rollout_id}/evidence', { params: { path: rollout }, body: { kind: kind.value, text: text.value, serial: serial.value || null } }))
    text.value = serial.value = ''
  } else if (about.value) {
    const params = { path: { ...rollout, evidence_id: about.value.id } }
    if (word.value === 'acknowledge') await told(api.POST('/api/v1/rollouts/{rollout_id}/evidence/{evidence_id}/acknowledge', { params, body: { reason, unrelated: unrelated.value } }))
    else await told(api.POST('/api/v1/rollouts/{rollout_id}/evidence/{evidence_id}/withdraw', { params, body: { reason } }))
  }
  word.value = null
  emit('done')
  await reload()
}
</script>

<template>
  <v-card id="outside" class="panel mb-5" data-testid="outside">
    <div class="row">
      <h2>Heard outside</h2>
      <span class="push" />
      <v-btn size="small" @click="word = 'file'">file a call or alarm</v-btn>
    </div>
    <v-alert v-if="failure" type="error">{{ failure }}</v-alert>
    <p v-if="found && !found.items.length" class="quiet">Nothing so far. A device that is named counts as bad; what names none holds the next ring until somebody has looked.</p>
    <template v-else-if="found">
      <p :class="{ quiet: !found.unseen }">{{ found.words }}.</p>
      <v-table density="compact">
        <thead>
          <tr>
            <th scope="col">when</th>
            <th scope="col">kind</th>
            <th scope="col">device</th>
            <th scope="col">what was said</th>
            <th scope="col">from</th>
            <th scope="col">what became of it</th>
            <th scope="col"><span class="d-sr-only">do</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in found.items" :key="one.id" :class="{ gone: one.withdrawn_by }" :data-testid="`evidence-${one.id}`">
            <td class="when">{{ moment(one.at).slice(5, 16) }}</td>
            <td>{{ one.kind }}</td>
            <td><router-link v-if="one.serial" :to="`/fleet/${one.serial}`">{{ one.serial }}</router-link></td>
            <td class="said">{{ one.text }}</td>
            <td>{{ one.filed_by }}</td>
            <td :class="{ bad: one.counts, asks: one.waits }">{{ became(one) }}</td>
            <td class="do">
              <v-btn v-if="one.waits" size="x-small" variant="outlined" @click="ask('acknowledge', one)">acknowledge</v-btn>
              <v-btn v-if="!one.withdrawn_by" size="x-small" variant="text" @click="ask('withdraw', one)">withdraw</v-btn>
            </td>
          </tr>
        </tbody>
      </v-table>
    </template>
    <ReasonDialog
      :word="word"
      :title="word === 'file' ? `File what was heard about rollout ${rolloutId}` : `${word} ${about?.kind}: ${about?.text}`"
      :needs-reason="word !== 'file'"
      :fields-first="word === 'file'"
      :act="act"
      @leave="word = null"
    >
      <template v-if="word === 'file'">
        <div class="two mb-2">
          <v-combobox v-model="kind" :items="['support-call', 'alarm', 'second-look']" label="Kind" hide-details />
          <v-text-field v-model="serial" label="Device (serial), where it is known" hide-details />
        </div>
        <v-textarea v-model="text" label="What was said" rows="3" class="mb-2" hide-details autofocus />
      </template>
      <v-checkbox v-else-if="word === 'acknowledge'" v-model="unrelated" label="it has nothing to do with the release" density="compact" hide-details />
      <p v-else class="mb-2">It stays on record, and counts no more.</p>
    </ReasonDialog>
  </v-card>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
.said {
  white-space: pre-wrap;
  min-width: 180px;
}
.gone {
  opacity: 0.65;
}
.gone .said {
  text-decoration: line-through;
}
.when,
.do {
  white-space: nowrap;
}
.asks {
  color: var(--honey-ink);
}
</style>
