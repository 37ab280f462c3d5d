/** Every term the console uses, in words for somebody who meets it for the first time. */
export const glossary = {
  strand: 'A flow drawn as a line: messages enter at the left and pass one knot for each step.',
  knot: 'One step of a flow. Below it: how many messages passed in the last minute, and how long the step takes for half of them.',
  message: 'One document on its way through one flow, e.g. one purchase order of a file that brought twenty.',
  arrival: 'What came in, once, with its bytes: a file, a call. One arrival becomes one message or many.',
  moving: 'On its way: nothing to do.',
  waiting: 'It waits for a connection or a step that is held, and goes on by itself once that is free.',
  retrying: 'The last try did not succeed. It is tried again by itself at the time shown.',
  aside: 'It stopped because a person must look. Nothing of it is lost: correct it and resend it, or discard it.',
  done: 'It came to its end.',
  skipped: 'A step of the flow said that it need not go on, and why.',
  discarded: 'A person decided that it shall not go on, and said why.',
  held: 'Nothing is sent to a connection that is held, and nothing passes a step where message after message failed alike. Unless a person holds it, one message looks from time to time whether it is of use again.',
  order: 'One purchase order followed along its milestones, across flows, from the partner’s file to the last answer.',
  milestone: 'A point that an order passes on its way, e.g. acknowledged or booked.',
  key: 'The number the document came with, e.g. the purchase order number.',
  result: 'The number the target system gave it.',
  taken: 'It is ours, whatever happens from here on.',
  unfolding: 'Its messages are being made.',
  repeat: 'The same interchange came before. Nothing was done twice; the earlier acknowledgment went out again.',
  refused: 'Nothing in it could be accepted; the sender is told so in the acknowledgment.',
  untaken:
    'It could not be taken, and nothing of it is lost. Have it sent again as it should be, let it through, or discard it.',
  settled: 'It could not be taken, and a person has dealt with it: let it through, or discarded it.',
  interchange: 'One X12 envelope, from ISA to IEA, with its control number.',
  acknowledgment: 'The 997 that tells the partner whether each document could be read, not whether it is agreed to.',
  release: 'The state of the workspace that a message runs with. A message keeps the one it began with.',
  reason: 'Why messages stand aside. All with the same reason can be resent at once.',
  attempt: 'One try of a step.',
} as const

export type Term = keyof typeof glossary
