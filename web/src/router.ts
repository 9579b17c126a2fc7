import { createRouter, createWebHistory } from 'vue-router'
import BoardPlace from './board/BoardPlace.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/board' },
    { path: '/board', name: 'board', component: BoardPlace },
    { path: '/declaration', name: 'declaration', component: () => import('./places/declaration/DeclarationPlace.vue') },
    { path: '/import', name: 'import', component: () => import('./places/import/ImportPlace.vue') },
    { path: '/callers/:name?', name: 'callers', component: () => import('./places/callers/CallersPlace.vue') },
    { path: '/observe', name: 'observe', component: () => import('./places/observe/ObservePlace.vue') },
    { path: '/tokens', name: 'tokens', component: () => import('./places/tokens/TokensPlace.vue') },
    { path: '/quotas', name: 'quotas', component: () => import('./places/quotas/QuotasPlace.vue') },
    { path: '/sweeps', name: 'sweeps', component: () => import('./places/sweeps/SweepsPlace.vue') },
    {
      path: '/sweeps/:from(\\d+)..:to(\\d+)',
      name: 'compare',
      component: () => import('./places/sweeps/ComparePlace.vue'),
    },
    { path: '/findings/:id?', name: 'findings', component: () => import('./places/findings/FindingsPlace.vue') },
    { path: '/targets', name: 'targets', component: () => import('./places/targets/TargetsPlace.vue') },
    { path: '/:rest(.*)*', redirect: '/board' },
  ],
})
