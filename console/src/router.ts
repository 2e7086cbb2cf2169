import { nextTick } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import Overview from './pages/Overview.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'overview', component: Overview },
    { path: '/hosts', name: 'fleet', component: () => import('./pages/Fleet.vue') },
    { path: '/policy', name: 'policy', component: () => import('./pages/Policy.vue') },
    { path: '/audit', name: 'audit', component: () => import('./pages/Audit.vue') },
    { path: '/settings', name: 'settings', component: () => import('./pages/Settings.vue') },
    { path: '/people', name: 'people', component: () => import('./pages/People.vue') },
    { path: '/hosts/:name', name: 'host', component: () => import('./pages/HostPage.vue'), props: true },
    { path: '/drift', name: 'drift', component: () => import('./pages/Drift.vue') },
    { path: '/report', name: 'report', component: () => import('./pages/Report.vue') },
    { path: '/keys', name: 'keys', component: () => import('./pages/Keys.vue') },
    { path: '/keys/:key', name: 'key', component: () => import('./pages/KeyPage.vue'), props: (r) => ({ key_: String(r.params.key) }) },
    { path: '/repositories', name: 'repositories', component: () => import('./pages/Repositories.vue') },
    { path: '/repositories/:key', name: 'repository', component: () => import('./pages/RepositoryPage.vue'), props: (r) => ({ key_: String(r.params.key) }) },
    { path: '/whence', name: 'whence', component: () => import('./pages/Whence.vue') },
    { path: '/changes', name: 'changes', component: () => import('./pages/Changes.vue') },
    { path: '/rollouts', name: 'rollouts', component: () => import('./pages/Rollouts.vue') },
    { path: '/rollouts/:id(\\d+)', name: 'rollout', component: () => import('./pages/Rollouts.vue'), props: true },
    { path: '/contracts', name: 'contracts', component: () => import('./pages/Contracts.vue') },
    { path: '/sign-in', name: 'sign-in', component: () => import('./pages/SignIn.vue') },
    { path: '/:rest(.*)', name: 'nothing', component: () => import('./pages/Nothing.vue') },
  ],
})

// Each page has a title of its own, by which tabs and bookmarks are told apart.
const titles: Record<string, string> = {
  overview: 'Overview',
  fleet: 'Hosts',
  policy: 'Policy',
  audit: 'Audit',
  people: 'People',
  settings: 'Settings',
  drift: 'Drift',
  report: 'Report',
  keys: 'Keys',
  repositories: 'Repositories',
  repository: 'Repository',
  whence: 'Whence',
  changes: 'Changes',
  rollouts: 'Rollouts',
  contracts: 'Contracts',
  'sign-in': 'Sign in',
  nothing: 'Nothing here',
}
function focusHeading() {
  const h = document.querySelector<HTMLElement>('main h1') ?? document.querySelector<HTMLElement>('main')
  if (!h) return
  h.tabIndex = -1
  h.focus({ preventScroll: true })
}
/** Brings a section of a page that was asked for to where one looks; it may come later than the page. */
function goTo(id: string, tries = 40) {
  const h = document.getElementById(id)
  if (!h) {
    if (tries) setTimeout(() => goTo(id, tries - 1), 50)
    return
  }
  h.style.scrollMarginTop = '72px' // below what stays at the top
  h.tabIndex = -1
  h.scrollIntoView()
  h.focus({ preventScroll: true })
}
router.afterEach((to, from) => {
  const of = to.name === 'host' ? String(to.params.name).split('.')[0] : to.name === 'key' ? 'Key' : to.name === 'rollout' ? `Rollout ${String(to.params.id)}` : titles[String(to.name)]
  // Who does not see the page is led to what is new on it.
  if (to.hash) void nextTick(() => goTo(to.hash.slice(1)))
  else if (from.name !== undefined && from.name !== to.name) void nextTick(() => focusHeading())
  document.title = of ? `${of} · Patient Lantern` : 'Patient Lantern'
})
