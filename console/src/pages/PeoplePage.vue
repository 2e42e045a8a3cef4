<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, done, told, type Schemas } from '../api/client'
import NewPassword from '../components/NewPassword.vue'
import ReasonDialog from '../components/ReasonDialog.vue'
import { useLoading } from '../loading'
import { useSession } from '../stores/session'
import { moment } from '../words'

type Person = Schemas['PersonOut']
type Token = Schemas['TokenOut']
const ROLES = ['viewer', 'publisher', 'operator', 'admin'] as const
const MAY: Record<string, string> = {
  viewer: 'reads everything',
  publisher: 'adds boards, publishes releases',
  operator: 'admits devices, plans and steers rollouts',
  admin: 'may do everything: keys and people, too',
}
const session = useSession()
const people = ref<Person[]>([])
const tokens = ref<Token[]>([])
const name = ref('')
const roles = ref<Schemas['Role'][]>(['viewer'])
const only = ref('')
const told_once = ref<{ name: string; password: string } | null>(null)
const asked = ref<{ word: string; title: string; text: string; act: () => Promise<void> } | null>(null)
const changing = ref(false)
const refused = ref('')
const admin = computed(() => session.me?.roles.includes('admin') ?? false)

const { failure, loaded, reload } = useLoading(async () => {
  people.value = admin.value ? await told(api.GET('/api/v1/people')) : []
  tokens.value = await told(api.GET('/api/v1/tokens', { params: { query: { everybody: admin.value } } }))
})

async function trying(work: () => Promise<void>) {
  refused.value = ''
  try {
    await work()
  } catch (error) {
    refused.value = (error as Error).message
  }
  await reload()
}

const add = () =>
  trying(async () => {
    const made = await told(api.POST('/api/v1/people', { body: { name: name.value.trim(), roles: roles.value, only: only.value.trim() || null } }))
    told_once.value = { name: made.name, password: made.password ?? '' }
    name.value = ''
    roles.value = ['viewer']
    only.value = ''
  })

const give = (person: Person, chosen: Schemas['Role'][]) =>
  trying(async () => {
    if (!chosen.length) throw new Error(`${person.name} needs one role at the least. Close them if they are to do nothing here.`)
    await told(api.PUT('/api/v1/people/{name}/roles', { params: { path: { name: person.name } }, body: { roles: chosen } }))
  })

function ask(word: string, title: string, text: string, act: () => Promise<void>) {
  asked.value = { word, title, text, act }
}

async function act() {
  await asked.value?.act()
  asked.value = null
  await reload()
}

function reset(person: Person) {
  ask('reset', `Reset ${person.name}'s password`, 'Their sessions end; they choose a password of their own at the next sign-in. Tokens stay.', async () => {
    const path = { name: person.name }
    const made = await told(api.POST('/api/v1/people/{name}/password', { params: { path } }))
    told_once.value = { name: made.name, password: made.password ?? '' }
  })
}

function close(person: Person) {
  ask('close', `Close ${person.name}`, `Sessions and ${person.tokens} tokens end at once, those of pipelines too. What they did stays in the journal.`, () =>
    done(api.DELETE('/api/v1/people/{name}', { params: { path: { name: person.name } } })),
  )
}

function closeToken(token: Token) {
  ask('close', `Close token ${token.id}`, `“${token.name}” of ${token.person} lets nobody in any more.`, () =>
    done(api.DELETE('/api/v1/tokens/{token_id}', { params: { path: { token_id: token.id } } })),
  )
}
</script>

<template>
  <div class="page">
    <div class="row mb-3">
      <h1>People</h1>
      <span v-if="session.me" class="quiet">Signed in as {{ session.me.name }} ({{ session.me.roles.join(", ") }}{{ session.me.only ? ` of ${session.me.only}` : "" }})</span>
      <v-btn class="push" size="small" @click="changing = true">change my password …</v-btn>
    </div>
    <v-alert v-if="failure || refused" type="error" class="mb-3" role="alert">{{ refused || failure }}</v-alert>
    <v-alert v-if="told_once" class="mb-3" closable color="primary" variant="tonal" role="status" @click:close="told_once = null">
      The first password of {{ told_once.name }}, shown this once: <strong class="mono">{{ told_once.password }}</strong>
    </v-alert>
    <template v-if="admin">
      <h2>Team</h2>
      <v-card class="mb-5">
        <v-table>
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">Roles</th>
              <th scope="col">State</th>
              <th scope="col">Signed in last</th>
              <th scope="col" class="count">Tokens</th>
              <th scope="col"><span class="hidden">Actions</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="person in people" :key="person.name" :class="{ quiet: person.closed_at }">
              <td><strong>{{ person.name }}</strong></td>
              <td>
                <span v-if="person.closed_at">{{ person.roles.join(', ') }}</span>
                <span v-else class="row roles">
                  <v-checkbox
                    v-for="role in ROLES"
                    :key="role"
                    :model-value="person.roles"
                    :value="role"
                    :label="role"
                    :aria-label="`${person.name} is ${role}`"
                    density="compact"
                    hide-details
                    @update:model-value="(chosen: unknown) => give(person, chosen as Schemas['Role'][])"
                  />
                </span>
                <span v-if="person.only" class="quiet">only <span class="mono">{{ person.only }}</span></span>
              </td>
              <td>{{ person.closed_at ? `closed ${moment(person.closed_at).slice(0, 10)}` : person.must_change ? 'first password' : 'open' }}</td>
              <td>{{ person.signed_in_at ? moment(person.signed_in_at) : 'never' }}</td>
              <td class="count">{{ person.tokens }}</td>
              <td>
                <span v-if="!person.closed_at" class="row acts">
                  <v-btn size="small" @click="reset(person)">reset password …</v-btn>
                  <v-btn size="small" @click="close(person)">close …</v-btn>
                </span>
              </td>
            </tr>
          </tbody>
        </v-table>
        <form class="row panel" @submit.prevent="add">
          <v-text-field v-model="name" label="Name" hide-details class="name" />
          <v-select v-model="roles" :items="[...ROLES]" label="Roles" multiple hide-details class="chosen" />
          <v-text-field v-model="only" label="Only devices of (a selector)" placeholder="site = fernhollow" hide-details class="chosen" />
          <v-btn type="submit" color="primary" variant="flat" :disabled="!name.trim() || !roles.length">Add to the team</v-btn>
        </form>
        <dl class="facts panel">
          <template v-for="role in ROLES" :key="role"><dt>{{ role }}</dt><dd>{{ MAY[role] }}</dd></template>
        </dl>
      </v-card>
    </template>
    <h2>Tokens</h2>
    <v-card v-if="tokens.length">
      <v-table>
        <thead>
          <tr>
            <th scope="col" class="count">Id</th>
            <th scope="col">Person</th>
            <th scope="col">Name</th>
            <th scope="col">Made</th>
            <th scope="col">Good until</th>
            <th scope="col"><span class="hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="token in tokens" :key="token.id">
            <td class="count">{{ token.id }}</td>
            <td>{{ token.person }}</td>
            <td>{{ token.name }}</td>
            <td>{{ moment(token.created_at) }}</td>
            <td>{{ moment(token.expires_at) }}</td>
            <td><v-btn size="small" @click="closeToken(token)">close …</v-btn></td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-card v-else-if="loaded" class="panel quiet">No open token. <code class="mono">herald sign-in</code> makes one.</v-card>
    <ReasonDialog :word="asked?.word ?? null" :title="asked?.title ?? ''" :needs-reason="false" :act="act" @leave="asked = null">
      <p class="mb-4">{{ asked?.text }}</p>
    </ReasonDialog>
    <v-dialog v-model="changing" max-width="420" aria-label="Change my password">
      <v-card class="panel">
        <h2>Change my password</h2>
        <p class="quiet mb-4">Your other sessions end; your tokens stay.</p>
        <NewPassword @changed="changing = false" />
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.roles,
.acts {
  flex-wrap: nowrap;
  gap: 10px;
}
.roles :deep(.v-label) {
  font-size: 14px;
}
.name {
  max-width: 240px;
}
.chosen {
  max-width: 320px;
}
.hidden {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
</style>
