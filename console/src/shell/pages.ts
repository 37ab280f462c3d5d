/** The catalogue of pages: routes, sidebar, keys and command palette are made from it. */
import {
  ArrowDownTrayIcon,
  ArrowsRightLeftIcon,
  BarsArrowDownIcon,
  ClipboardDocumentListIcon,
  DocumentTextIcon,
  EnvelopeIcon,
  InboxIcon,
  LinkIcon,
  Squares2X2Icon,
  ViewfinderCircleIcon,
} from '@heroicons/vue/20/solid'
import type { Component } from 'vue'
import OverviewPage from '../overview/OverviewPage.vue'
import type { Attention } from './useAttention'

export interface Page {
  path: string
  name: string
  /** In the sidebar. */
  text: string
  /** Of the browser's window and in the palette, where it is longer than `text`. */
  title?: string
  /** The second key after `g`. */
  key: string
  icon: Component
  component: Component | (() => Promise<Component>)
  /** The number beside it that asks for attention. */
  count?: keyof Attention
}

export interface Group {
  title: string
  pages: Page[]
}

export const groups: Group[] = [
  {
    title: 'Build',
    pages: [
      {
        path: '/flows',
        name: 'flows',
        text: 'Flows',
        key: 'f',
        icon: BarsArrowDownIcon,
        component: () => import('../flows/FlowsPage.vue'),
      },
      {
        path: '/maps',
        name: 'maps',
        text: 'Maps',
        key: 'p',
        icon: ArrowsRightLeftIcon,
        component: () => import('../maps/MapsPage.vue'),
      },
      {
        path: '/connections',
        name: 'connections',
        text: 'Connections',
        key: 'c',
        icon: LinkIcon,
        component: () => import('../connections/ConnectionsPage.vue'),
        count: 'connections',
      },
      {
        path: '/captures',
        name: 'captures',
        text: 'Captures',
        key: 't',
        icon: ViewfinderCircleIcon,
        component: () => import('../captures/CapturesPage.vue'),
      },
      {
        path: '/x12',
        name: 'x12',
        text: 'X12',
        title: 'X12 documents',
        key: 'd',
        icon: DocumentTextIcon,
        component: () => import('../x12/X12Page.vue'),
      },
    ],
  },
  {
    title: 'Watch',
    pages: [
      { path: '/', name: 'overview', text: 'Overview', key: 's', icon: Squares2X2Icon, component: OverviewPage },
      {
        path: '/messages',
        name: 'messages',
        text: 'Messages',
        key: 'm',
        icon: EnvelopeIcon,
        component: () => import('../messages/MessagesPage.vue'),
        count: 'messages',
      },
      {
        path: '/arrivals',
        name: 'arrivals',
        text: 'Arrivals',
        key: 'a',
        icon: InboxIcon,
        component: () => import('../arrivals/ArrivalsPage.vue'),
        count: 'arrivals',
      },
    ],
  },
  {
    title: 'Orders and partners',
    pages: [
      {
        path: '/orders',
        name: 'orders',
        text: 'Orders',
        key: 'o',
        icon: ClipboardDocumentListIcon,
        component: () => import('../orders/OrdersPage.vue'),
      },
    ],
  },
  {
    title: 'Operate',
    pages: [
      {
        path: '/releases',
        name: 'releases',
        text: 'Releases',
        key: 'r',
        icon: ArrowDownTrayIcon,
        component: () => import('../releases/ReleasesPage.vue'),
      },
    ],
  },
]

export const pages: Page[] = groups.flatMap((group) => group.pages)

export const titleOfPage = (page: Page) => page.title ?? page.text
