import { createRouter, createWebHistory } from 'vue-router'
import OverviewPage from './overview/OverviewPage.vue'

declare module 'vue-router' {
  interface RouteMeta {
    title: string
    /** Shown without anybody being signed in. */
    open?: boolean
  }
}

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (to, _from, saved) => saved ?? (to.hash ? { el: to.hash } : { top: 0 }),
  routes: [
    { path: '/', name: 'lines', component: OverviewPage, meta: { title: 'Overview' } },
    {
      path: '/messages',
      name: 'messages',
      component: () => import('./messages/MessagesPage.vue'),
      meta: { title: 'Messages' },
    },
    {
      path: '/messages/:id',
      name: 'message',
      component: () => import('./message/MessagePage.vue'),
      props: true,
      meta: { title: 'Message' },
    },
    {
      path: '/arrivals',
      name: 'arrivals',
      component: () => import('./arrivals/ArrivalsPage.vue'),
      meta: { title: 'Arrivals' },
    },
    {
      path: '/arrivals/:id',
      name: 'arrival',
      component: () => import('./arrivals/ArrivalPage.vue'),
      props: true,
      meta: { title: 'Arrival' },
    },
    { path: '/orders', name: 'orders', component: () => import('./orders/OrdersPage.vue'), meta: { title: 'Orders' } },
    {
      path: '/orders/:orderKey',
      name: 'order',
      component: () => import('./orders/OrderPage.vue'),
      props: true,
      meta: { title: 'Order' },
    },
    {
      path: '/connections',
      name: 'connections',
      component: () => import('./connections/ConnectionsPage.vue'),
      meta: { title: 'Connections' },
    },
    {
      path: '/captures',
      name: 'captures',
      component: () => import('./captures/CapturesPage.vue'),
      meta: { title: 'Captures' },
    },
    {
      path: '/releases',
      name: 'releases',
      component: () => import('./releases/ReleasesPage.vue'),
      meta: { title: 'Releases' },
    },
    { path: '/maps', name: 'maps', component: () => import('./maps/MapsPage.vue'), meta: { title: 'Maps' } },
    {
      path: '/maps/:name(.*)',
      name: 'map',
      component: () => import('./maps/MapPage.vue'),
      props: true,
      meta: { title: 'Map' },
    },
    { path: '/x12', name: 'x12', component: () => import('./x12/X12Page.vue'), meta: { title: 'X12 documents' } },
    {
      path: '/design',
      name: 'design',
      component: () => import('./design/DesignPage.vue'),
      meta: { title: 'Design system' },
    },
    {
      path: '/sign-in',
      name: 'sign-in',
      component: () => import('./shell/SignInPage.vue'),
      meta: { title: 'Sign in', open: true },
    },
    {
      path: '/:path(.*)*',
      name: 'nowhere',
      component: () => import('./shell/NowherePage.vue'),
      meta: { title: 'Not found', open: true },
    },
  ],
})

/** Fetches the code of every page. One that cannot be fetched now is fetched when it is gone to. */
export function preloadPages() {
  for (const { components } of router.getRoutes()) {
    const page: unknown = components?.default
    if (typeof page === 'function') void (page as () => Promise<unknown>)().catch(() => {})
  }
}
