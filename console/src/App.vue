<script setup lang="ts">
import { mdiAccountMultipleOutline, mdiBookOpenPageVariantOutline, mdiBroadcast, mdiChartLine, mdiClipboardTextOutline, mdiClockOutline, mdiKeyOutline, mdiLogout, mdiSourceBranch, mdiThemeLightDark, mdiViewGridOutline } from '@mdi/js'
import { watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useTheme } from 'vuetify'

import LineLost from './components/LineLost.vue'
import { useFeed } from './stores/feed'
import { useSession } from './stores/session'

const RAIL = [
  { to: '/', title: 'Now', icon: mdiClockOutline },
  { to: '/fleet', title: 'Fleet', icon: mdiViewGridOutline },
  { to: '/lineage', title: 'Lineage', icon: mdiSourceBranch },
  { to: '/plan', title: 'Plan', icon: mdiClipboardTextOutline },
  { to: '/rollouts', title: 'Rollouts', icon: mdiBroadcast },
  { to: '/readings', title: 'Readings', icon: mdiChartLine },
  { to: '/journal', title: 'Journal', icon: mdiBookOpenPageVariantOutline },
  { to: '/keys', title: 'Keys', icon: mdiKeyOutline },
  { to: '/people', title: 'People', icon: mdiAccountMultipleOutline },
]
const session = useSession()
const feed = useFeed()
const route = useRoute()
const router = useRouter()
const theme = useTheme()

watch(
  () => session.me,
  (me) => (me && !me.must_change ? feed.open() : feed.close()),
  { immediate: true },
)

function here(to: string): boolean {
  if (to === '/fleet' && route.path === '/tree') return true
  return to === '/' ? route.path === '/' : route.path.startsWith(to)
}

async function signOut() {
  await session.signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <v-app>
    <v-navigation-drawer v-if="session.me && !session.me.must_change" permanent width="92" color="surface" aria-label="Main">
      <nav class="rail">
        <img src="/mark.svg" alt="Mellow Herald" width="34" height="34" class="mark" />
        <router-link
          v-for="item in RAIL"
          :key="item.to"
          :to="item.to"
          class="stop"
          :class="{ here: here(item.to) }"
          :aria-current="here(item.to) ? 'page' : undefined"
        >
          <v-icon :icon="item.icon" size="22" />
          <span>{{ item.title }}</span>
        </router-link>
        <div class="bottom">
          <button class="stop" type="button" @click="theme.toggle()">
            <v-icon :icon="mdiThemeLightDark" size="20" />
            <span>Light, dark</span>
          </button>
          <button class="stop" type="button" @click="signOut">
            <v-icon :icon="mdiLogout" size="20" />
            <span>Sign out</span>
          </button>
        </div>
      </nav>
    </v-navigation-drawer>
    <v-main>
      <LineLost v-if="session.me && !session.me.must_change" />
      <router-view />
    </v-main>
  </v-app>
</template>

<style scoped>
.rail {
  display: flex;
  flex-direction: column;
  height: 100%;
  padding: 14px 8px;
  gap: 4px;
}
.mark {
  align-self: center;
  margin-bottom: 14px;
}
.stop {
  display: flex;
  flex-direction: column;
  align-items: center;
  gap: 3px;
  padding: 9px 2px;
  border: 0;
  border-radius: 10px;
  background: none;
  color: inherit;
  font: inherit;
  font-size: 12px;
  text-decoration: none;
  cursor: pointer;
}
.stop:hover {
  background: rgba(var(--v-theme-on-surface), 0.06);
}
.stop.here {
  background: rgba(217, 154, 43, 0.18);
  font-weight: 600;
}
.bottom {
  margin-top: auto;
}
.bottom .stop {
  width: 100%;
  font-size: 11px;
}
</style>
