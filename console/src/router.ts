import { createRouter, createWebHistory } from 'vue-router'

import { useSession } from './stores/session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', component: () => import('./pages/SignInPage.vue'), meta: { open: true, title: 'Sign in' } },
    { path: '/', component: () => import('./pages/NowPage.vue'), meta: { title: 'Now' } },
    { path: '/fleet', component: () => import('./pages/FleetPage.vue'), meta: { title: 'Fleet' } },
    { path: '/tree', component: () => import('./pages/TreePage.vue'), meta: { title: 'Gateways' } },
    { path: '/fleet/:serial', component: () => import('./pages/DevicePage.vue'), props: true, meta: { title: 'Device' } },
    { path: '/lineage', component: () => import('./pages/LineagePage.vue'), meta: { title: 'Lineage' } },
    {
      path: '/lineage/:id(\\d+)',
      component: () => import('./pages/ReleasePage.vue'),
      props: (route) => ({ id: Number(route.params.id) }),
      meta: { title: 'Release' },
    },
    { path: '/keys', component: () => import('./pages/KeysPage.vue'), meta: { title: 'Keys and boards' } },
    { path: '/plan', component: () => import('./pages/PlanPage.vue'), meta: { title: 'Plan' } },
    { path: '/rollouts', component: () => import('./pages/RolloutsPage.vue'), meta: { title: 'Rollouts' } },
    {
      path: '/rollouts/:id(\\d+)',
      component: () => import('./pages/RolloutPage.vue'),
      props: (route) => ({ id: Number(route.params.id) }),
      meta: { title: 'Rollout' },
    },
    {
      path: '/sessions/:id(\\d+)',
      component: () => import('./pages/SessionPage.vue'),
      props: (route) => ({ id: Number(route.params.id) }),
      meta: { title: 'Session' },
    },
    { path: '/readings', component: () => import('./pages/ReadingsPage.vue'), meta: { title: 'Readings' } },
    { path: '/readings/pages/new', component: () => import('./pages/ChartPage.vue'), props: { id: null }, meta: { title: 'Chart page' } },
    {
      path: '/readings/pages/:id(\\d+)',
      component: () => import('./pages/ChartPage.vue'),
      props: (route) => ({ id: Number(route.params.id) }),
      meta: { title: 'Chart page' },
    },
    { path: '/people', component: () => import('./pages/PeoplePage.vue'), meta: { title: 'People' } },
    { path: '/journal', component: () => import('./pages/JournalPage.vue'), meta: { title: 'Journal' } },
    { path: '/:rest(.*)', component: () => import('./pages/NotFoundPage.vue'), meta: { title: 'Not found' } },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  await session.load()
  if (!to.meta.open && (!session.me || session.me.must_change)) return { path: '/sign-in', query: { to: to.fullPath } }
  return true
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title)} · Mellow Herald`
})
