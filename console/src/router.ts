import { createRouter, createWebHistory } from 'vue-router'
import { pages, titleOfPage } from './shell/pages'

declare module 'vue-router' {
  interface RouteMeta {
    title: string
    /** Shown without sign-in. */
    open?: boolean
  }
}

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (to, _from, saved) => saved ?? (to.hash ? { el: to.hash } : { top: 0 }),
  routes: [
    ...pages.map((page) => ({
      path: page.path,
      name: page.name,
      component: page.component,
      meta: { title: titleOfPage(page) },
    })),
    {
      path: '/messages/:id',
      name: 'message',
      component: () => import('./message/MessagePage.vue'),
      props: true,
      meta: { title: 'Message' },
    },
    {
      path: '/arrivals/:id',
      name: 'arrival',
      component: () => import('./arrivals/ArrivalPage.vue'),
      props: true,
      meta: { title: 'Arrival' },
    },
    {
      path: '/orders/:orderKey',
      name: 'order',
      component: () => import('./orders/OrderPage.vue'),
      props: true,
      meta: { title: 'Order' },
    },
    {
      path: '/flows/:name',
      name: 'flow',
      component: () => import('./flows/FlowPage.vue'),
      props: true,
      meta: { title: 'Flow' },
    },
    {
      path: '/maps/:name(.*)',
      name: 'map',
      component: () => import('./maps/MapPage.vue'),
      props: true,
      meta: { title: 'Map' },
    },
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

/** Loads the code of every page. A page that cannot be loaded now is loaded when it is opened. */
export function preloadPages() {
  for (const { components } of router.getRoutes()) {
    const page: unknown = components?.default
    if (typeof page === 'function') void (page as () => Promise<unknown>)().catch(() => {})
  }
}
