import { createRouter, createWebHistory } from 'vue-router'
import Fleet from './pages/Fleet.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'fleet', component: Fleet },
    { path: '/hosts/:name', name: 'host', component: () => import('./pages/HostPage.vue'), props: true },
    { path: '/drift', name: 'drift', component: () => import('./pages/Drift.vue') },
    { path: '/changes', name: 'changes', component: () => import('./pages/Changes.vue') },
    { path: '/rollouts', name: 'rollouts', component: () => import('./pages/Rollouts.vue') },
    { path: '/rollouts/:id(\\d+)', name: 'rollout', component: () => import('./pages/Rollouts.vue'), props: true },
    { path: '/contracts', name: 'contracts', component: () => import('./pages/Contracts.vue') },
    { path: '/sign-in', name: 'sign-in', component: () => import('./pages/SignIn.vue') },
    { path: '/:rest(.*)', name: 'nothing', component: () => import('./pages/Nothing.vue') },
  ],
})
