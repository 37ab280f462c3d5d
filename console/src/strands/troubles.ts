/** From the strands to what somebody should know, worst first, each with where to go. */
import type { Strands } from '../api/schema'
import { count, listed } from '../words/format'

export interface Concern {
  kind: 'aside' | 'held' | 'retrying' | 'warning'
  /** What is the matter. */
  says: string
  /** Why, in the other side's words; empty when there is nothing to add. */
  because: string
  /** Whom it hurts; empty when nobody yet. */
  whom: string
  /** RFC 3339; empty when not known. */
  since: string
  to: string
  /** What `to` opens. */
  opens: string
}

type Titles = (part: 'flows' | 'partners' | 'connections', name: string) => string

/** Whose messages they are, most first: "Marrowfield Farm Stores and 2 others". */
export function whose(shares: { partner: string; messages: number }[], titles: Titles): string {
  const sums = new Map<string, number>()
  shares.forEach(({ partner, messages }) => sums.set(partner, (sums.get(partner) ?? 0) + messages))
  const names = [...sums]
    .filter(([partner]) => partner)
    .sort((a, b) => b[1] - a[1])
    .map(([partner]) => titles('partners', partner))
  return names.length <= 3 ? listed(names) : `${names.slice(0, 2).join(', ')} and ${count(names.length - 2, 'other')}`
}

export function concerns(
  { strands, connections, reasons, arrivals_aside, warnings }: Strands,
  titles: Titles,
): Concern[] {
  const knots = strands.flatMap((strand) => strand.knots.map((knot) => ({ flow: strand.flow, knot })))
  const aside = reasons.map((reason): Concern => {
    const at = knots.find(({ flow, knot }) => flow === reason.flow && knot.step === reason.step)
    return {
      kind: 'aside',
      says: `${count(reason.messages, 'message')} of ${titles('flows', reason.flow)} ${reason.messages === 1 ? 'stands' : 'stand'} aside`,
      because: reason.messages > 1 ? `e.g. ${reason.says}` : reason.says,
      whom: at ? whose(at.knot.hurts, titles) : '',
      since: reason.oldest ?? '',
      to: `/messages?state=aside&reason=${reason.id}`,
      opens: reason.messages === 1 ? 'Look at it' : 'Look at them',
    }
  })
  const held = connections.flatMap(({ name, title, held }): Concern[] => {
    if (!held) return []
    const before = knots.filter(({ knot }) => knot.connection === name)
    const waiting = before.reduce((sum, { knot }) => sum + knot.waiting, 0)
    const by = held.by ? `${title} is held by ${held.by}` : `${title} does not answer as it should and is held`
    return [
      {
        kind: 'held',
        says: waiting ? `${by}; ${count(waiting, 'message waits', 'messages wait')}` : by,
        because: held.says,
        whom: whose(
          before.flatMap(({ knot }) => knot.hurts),
          titles,
        ),
        since: held.since,
        to: `/connections#${name}`,
        opens: 'Look at the connection',
      },
    ]
  })
  const paused = strands.flatMap(({ flow, title, paused, knots }): Concern[] =>
    paused
      ? [
          {
            kind: 'held',
            says: paused.waiting
              ? `${title} is paused by ${paused.by}; ${count(paused.waiting, 'message waits', 'messages wait')}`
              : `${title} is paused by ${paused.by}`,
            because: paused.says,
            whom: whose(
              knots.flatMap((knot) => knot.hurts),
              titles,
            ),
            since: paused.since,
            to: `/messages?state=waiting&flow=${flow}`,
            opens: 'Look at what waits',
          },
        ]
      : [],
  )
  const stopped = knots.flatMap(({ flow, knot }): Concern[] =>
    knot.held
      ? [
          {
            kind: 'held',
            says: `The step ${knot.step} of ${titles('flows', flow)} is held${
              knot.held.waiting ? `; ${count(knot.held.waiting, 'message waits', 'messages wait')}` : ''
            }`,
            because: knot.held.says,
            whom: whose(knot.hurts, titles),
            since: knot.held.since,
            to: `/messages?state=waiting&flow=${flow}&step=${knot.step}`,
            opens: 'Look at what waits',
          },
        ]
      : [],
  )
  const isHeld = (name?: string | null) => connections.some((one) => one.name === name && one.held)
  const retrying = knots
    .filter(({ knot }) => knot.retrying > 0 && !isHeld(knot.connection))
    .map(({ flow, knot }): Concern => ({
      kind: 'retrying',
      says: `${count(knot.retrying, 'message is', 'messages are')} tried again at ${knot.step}`,
      because: '',
      whom: whose(knot.hurts, titles),
      since: knot.stuck_since ?? '',
      to: `/messages?state=retrying&flow=${flow}&step=${knot.step}`,
      opens: 'Look at them',
    }))
  const newest = arrivals_aside[0]
  const arrived: Concern[] = newest
    ? [
        {
          kind: 'aside',
          says: `${count(arrivals_aside.length, 'arrival')} of the last day could not be taken`,
          because: `${arrivals_aside.length > 1 ? 'e.g. ' : ''}${newest.name}: ${newest.says}`,
          whom: whose(
            arrivals_aside.map(({ partner }) => ({ partner, messages: 1 })),
            titles,
          ),
          since: arrivals_aside.at(-1)!.received,
          to: arrivals_aside.length > 1 ? '/arrivals?verdict=aside&within=1d' : `/arrivals/${newest.id}`,
          opens: arrivals_aside.length > 1 ? 'Look at them' : 'Look at it',
        },
      ]
    : []
  const warned = warnings.map((says): Concern => ({
    kind: 'warning',
    says,
    because: '',
    whom: '',
    since: '',
    to: '',
    opens: '',
  }))
  return [...warned, ...held, ...paused, ...stopped, ...aside, ...arrived, ...retrying]
}

/** The state of everything in a few words. */
export function glance(told: Strands, found: Concern[]): string {
  const done = told.strands.reduce((sum, strand) => sum + strand.done_minute, 0)
  const passing = done
    ? `${count(done, 'message')} came to an end in the last minute`
    : 'Nothing has passed in the last minute'
  if (found.length === 0) return `${passing}; nothing is stuck.`
  const people = found.filter((one) => one.kind === 'aside' || one.kind === 'warning').length
  const needs = people ? `${count(people, 'thing needs', 'things need')} a person` : 'what waits goes on by itself'
  return `${passing}; ${needs}.`
}
