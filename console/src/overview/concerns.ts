/** The concerns of the overview, worst first, each with a link. */
import { ProblemKind } from '../api/schema'
import type { Assignment, Overview } from '../api/schema'
import { count, listed } from '../words/format'

export interface Concern {
  kind: 'failed' | 'held' | 'retrying' | 'warning'
  /** The problem in a few words. */
  says: string
  /** The cause, in the words of the other side; may be empty. */
  because: string
  /** Affected partners; empty if there are none. */
  whom: string
  /** Start time, RFC 3339; empty if not known. */
  since: string
  to: string
  /** Text of the link `to`. */
  opens: string
  /** What can be assigned to a person; a warning cannot. */
  problem?: { kind: ProblemKind; name: string }
  /** Who works on it. */
  assigned?: Assignment
}

type Titles = (part: 'flows' | 'partners' | 'connections', name: string) => string

/** Partners of the messages, the one with the most first: "Marrowfield Farm Stores and 2 others". */
export function whose(shares: { partner: string | null; messages: number }[], titles: Titles): string {
  const sums = new Map<string, number>()
  for (const { partner, messages } of shares) if (partner) sums.set(partner, (sums.get(partner) ?? 0) + messages)
  const names = [...sums].sort((a, b) => b[1] - a[1]).map(([partner]) => titles('partners', partner))
  return names.length <= 3 ? listed(names) : `${names.slice(0, 2).join(', ')} and ${count(names.length - 2, 'other')}`
}

export function concerns(
  { lines, connections, reasons, arrivals_failed, warnings, assignments }: Overview,
  titles: Titles,
): Concern[] {
  const steps = lines.flatMap((line) => line.steps.map((step) => ({ flow: line.flow, step })))
  const failed = reasons.map((reason): Concern => {
    const at = steps.find(({ flow, step }) => flow === reason.flow && step.step === reason.step)
    return {
      kind: 'failed',
      says: `${count(reason.messages, 'message')} in ${titles('flows', reason.flow)} ${reason.messages === 1 ? 'needs' : 'need'} attention`,
      because: reason.messages > 1 ? `e.g. ${reason.says}` : reason.says,
      whom: at ? whose(at.step.affects, titles) : '',
      since: reason.first_seen ?? '',
      problem: { kind: ProblemKind.reason, name: reason.id },
      to: `/messages?state=failed&reason=${reason.id}`,
      opens: reason.messages === 1 ? 'Open it' : 'Show them',
    }
  })
  const held = connections.flatMap(({ name, title, on_hold: held }): Concern[] => {
    if (!held) return []
    const before = steps.filter(({ step }) => step.connection === name)
    const waiting = before.reduce((sum, { step }) => sum + step.waiting, 0)
    const by = held.by ? `${title} was put on hold by ${held.by}` : `${title} is on hold`
    return [
      {
        kind: 'held',
        says: waiting ? `${by}; ${count(waiting, 'message waits', 'messages wait')}` : by,
        because: held.says,
        whom: whose(
          before.flatMap(({ step }) => step.affects),
          titles,
        ),
        since: held.since,
        problem: { kind: ProblemKind.connection, name },
        to: `/connections#${name}`,
        opens: 'Open the connection',
      },
    ]
  })
  const paused = lines.flatMap(({ flow, title, paused, steps }): Concern[] =>
    paused
      ? [
          {
            kind: 'held',
            says: paused.waiting
              ? `${title} is paused by ${paused.by}; ${count(paused.waiting, 'message waits', 'messages wait')}`
              : `${title} is paused by ${paused.by}`,
            because: paused.says,
            whom: whose(
              steps.flatMap((step) => step.affects),
              titles,
            ),
            since: paused.since,
            problem: { kind: ProblemKind.flow, name: flow },
            to: `/messages?state=waiting&flow=${flow}`,
            opens: 'Show waiting messages',
          },
        ]
      : [],
  )
  const stopped = steps.flatMap(({ flow, step }): Concern[] =>
    step.on_hold
      ? [
          {
            kind: 'held',
            says: `The step ${step.step} of ${titles('flows', flow)} is on hold${
              step.on_hold.waiting ? `; ${count(step.on_hold.waiting, 'message waits', 'messages wait')}` : ''
            }`,
            because: step.on_hold.says,
            whom: whose(step.affects, titles),
            since: step.on_hold.since,
            problem: { kind: ProblemKind.step, name: `${flow}/${step.step}` },
            to: `/messages?state=waiting&flow=${flow}&step=${step.step}`,
            opens: 'Show waiting messages',
          },
        ]
      : [],
  )
  const isHeld = (name?: string | null) => connections.some((one) => one.name === name && one.on_hold)
  const retrying = steps
    .filter(({ step }) => step.retrying > 0 && !isHeld(step.connection))
    .map(({ flow, step }): Concern => ({
      kind: 'retrying',
      says: `${count(step.retrying, 'message is', 'messages are')} retried at ${step.step}`,
      because: '',
      whom: whose(step.affects, titles),
      since: step.stuck_since ?? '',
      to: `/messages?state=retrying&flow=${flow}&step=${step.step}`,
      opens: 'Show them',
    }))
  const newest = arrivals_failed[0]
  const arrived: Concern[] = newest
    ? [
        {
          kind: 'failed',
          says: `${count(arrivals_failed.length, 'arrival')} of the last day failed`,
          because: `${arrivals_failed.length > 1 ? 'e.g. ' : ''}${newest.name}: ${newest.says}`,
          whom: whose(
            arrivals_failed.map(({ partner }) => ({ partner, messages: 1 })),
            titles,
          ),
          since: arrivals_failed.at(-1)!.received,
          problem: { kind: ProblemKind.arrivals, name: '' },
          to: arrivals_failed.length > 1 ? '/arrivals?verdict=failed&within=1d' : `/arrivals/${newest.id}`,
          opens: arrivals_failed.length > 1 ? 'Show them' : 'Open it',
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
  const all = [...held, ...paused, ...stopped, ...warned, ...failed, ...arrived, ...retrying]
  return all.map((one) => ({
    ...one,
    assigned: assignments.find(({ kind, name }) => kind === one.problem?.kind && name === one.problem.name),
  }))
}

/** The overall state in a few words. */
export function glance(overview: Overview, found: Concern[]): string {
  const done = overview.lines.reduce((sum, line) => sum + line.done_minute, 0)
  const passing = done ? `${count(done, 'message')} done in the last minute` : 'Nothing has passed in the last minute'
  if (found.length === 0) return `${passing}; nothing is stuck.`
  const people = found.filter((one) => one.kind === 'failed' || one.kind === 'warning').length
  const taken = found.filter((one) => one.assigned).length
  const needs = people
    ? `${count(people, 'problem needs', 'problems need')} attention`
    : 'waiting messages continue by themselves'
  return `${passing}; ${needs}${taken ? `, somebody works on ${taken}` : ''}.`
}
