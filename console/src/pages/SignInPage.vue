<script setup lang="ts">
import { nextTick, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import NewPassword from '../components/NewPassword.vue'
import { useSession } from '../stores/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const failure = ref('')
const busy = ref(false)
const first = ref<{ focus: () => void } | null>(null)

// At once, not when the field scrolls into view: a late focus would steal what is typed into the next field.
onMounted(() => nextTick(() => first.value?.focus()))

async function signIn() {
  busy.value = true
  failure.value = ''
  try {
    await session.signIn(name.value, password.value)
    if (!session.me?.must_change) await goOn()
  } catch (error) {
    failure.value = (error as Error).message
  } finally {
    busy.value = false
  }
}

async function changed() {
  await session.again()
  await goOn()
}

async function goOn() {
  const to = String(route.query.to ?? '/')
  await router.push(to.startsWith('/') && !to.startsWith('//') ? to : '/')
}
</script>

<template>
  <div class="door">
    <v-card class="panel" width="360">
      <img src="/mark.svg" alt="" width="44" height="44" />
      <h1>Mellow Herald</h1>
      <p class="quiet mb-4">Firmware releases, ring by ring.</p>
      <template v-if="session.me?.must_change">
        <p class="mb-4">This is a first password. Choose your own before anything else.</p>
        <NewPassword :present="password || undefined" @changed="changed" />
      </template>
      <form v-else @submit.prevent="signIn">
        <v-text-field ref="first" v-model="name" label="Name" type="text" name="name" autocomplete="username" required />
        <v-text-field
          v-model="password"
          label="Password"
          type="password"
          name="password"
          autocomplete="current-password"
          required
        />
        <v-alert v-if="failure" type="error" class="mb-4" role="alert">{{ failure }}</v-alert>
        <v-btn type="submit" color="primary" variant="flat" block :loading="busy">Sign in</v-btn>
      </form>
    </v-card>
  </div>
</template>

<style scoped>
.door {
  min-height: 100vh;
  display: grid;
  place-items: center;
}
h1 {
  font-size: 22px;
  margin-top: 8px;
}
</style>
