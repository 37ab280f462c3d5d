/** Terms of the console, explained for new users. */
export const glossary = {
  line: 'A flow drawn as a line: messages enter at the left and pass one step after another.',
  step: 'One action of a flow. Below it: how many messages passed in the last minute, and the median duration.',
  message: 'One document on its way through one flow, e.g. one purchase order of a file with twenty.',
  arrival:
    'One file, call or broker message that was received, with its bytes. One arrival becomes one message or many.',
  running: 'It is being processed: nothing to do.',
  waiting: 'It waits for a connection or a step that is on hold, and continues by itself when that is resumed.',
  retrying: 'The last attempt failed. It is retried at the time shown.',
  failed: 'It stopped because a person must look. Nothing is lost: amend, resend or discard it.',
  done: 'It passed every step.',
  skipped: 'A step of the flow ended it, because it needs no more work; the reason is shown.',
  discarded: 'A person stopped it for good; the reason is shown.',
  on_hold:
    'Nothing is sent to a connection that is on hold. A step is put on hold when message after message fails there for the same reason. Unless a person put it on hold, one message probes from time to time whether it works again.',
  order: 'One purchase order followed along its milestones, across flows, from the partner’s file to the last answer.',
  milestone: 'A point that an order reaches on its way, e.g. acknowledged or booked.',
  key: 'The number in the document, e.g. the purchase order number.',
  result: 'The number that the target system assigned.',
  received: 'It is stored and cannot be lost.',
  splitting: 'Its messages are being made.',
  duplicate:
    'The same interchange was received before. Nothing was done twice; the earlier acknowledgment was sent again.',
  rejected: 'No part of it could be accepted; the acknowledgment reports this to the sender.',
  failed_arrival: 'It could not be read or routed. Nothing is lost: have it sent again, accept it, or discard it.',
  resolved: 'It failed, and a person accepted or discarded it.',
  interchange: 'One X12 envelope, from ISA to IEA, with its control number.',
  acknowledgment: 'The 997 tells the partner whether each document is valid X12. It does not accept the order itself.',
  release: 'The state of the workspace that a message runs with. A message keeps the one it began with.',
  reason: 'Why messages failed. All messages with the same reason can be resent at once.',
  attempt: 'One try of a step.',
} as const

export type Term = keyof typeof glossary
