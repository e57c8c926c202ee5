import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/query' },
    { path: '/query', name: 'query', component: () => import('./pages/QueryPage.vue') },
    { path: '/catalogs', name: 'catalogs', component: () => import('./pages/CatalogsPage.vue') },
    { path: '/catalogs/:catalog', name: 'catalog', component: () => import('./pages/CatalogPage.vue') },
    { path: '/catalogs/:catalog/:schema/:table', name: 'table', component: () => import('./pages/TablePage.vue') },
    { path: '/catalogs/:catalog/:schema/:table/lake', name: 'lake', component: () => import('./pages/LakePage.vue') },
    { path: '/runs', name: 'runs', component: () => import('./pages/RunsPage.vue') },
    { path: '/runs/:id', name: 'run', component: () => import('./pages/RunPage.vue') },
    { path: '/:rest(.*)*', redirect: '/query' },
  ],
})
