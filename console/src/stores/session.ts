import { defineStore } from 'pinia'
import { ref } from 'vue'

import { api, told, type Schemas } from '../api/client'

export const useSession = defineStore('session', () => {
  const me = ref<Schemas['Me'] | null>(null)
  let asked = false

  async function load() {
    if (asked) return
    const { data } = await api.GET('/api/v1/session')
    me.value = data ?? null
    asked = true
  }

  async function signIn(name: string, password: string) {
    me.value = await told(api.POST('/api/v1/session', { body: { name, password } }))
    asked = true
  }

  /** Asks anew who is signed in. */
  async function again() {
    asked = false
    await load()
  }

  async function signOut() {
    await api.DELETE('/api/v1/session')
    me.value = null
  }

  return { me, load, again, signIn, signOut }
})
