/** What to do next, for each kind of reason why a message fails. */

/** One sentence of advice for a reason's code, e.g. `refused-422`. */
export function advice(code: string): string {
  const status = Number(/^refused-(\d{3})$/.exec(code)?.[1])
  if (status === 401 || status === 403)
    return 'The other side does not let us in. Correct the credentials of the connection, then resend.'
  if (status === 404)
    return 'The other side does not know what was asked for. Check the address in the flow’s step, or the number in the document.'
  if (status === 409)
    return 'The other side says that this conflicts with what it has. Look there first; discard the message if it is done already.'
  if (status)
    return 'The other side read the request and refused it. Amend the document and resend, or have it corrected there and resend as it is.'
  if (code.startsWith('in-doubt'))
    return 'It is not known whether the last request took effect. Look in the target system, then resend or discard.'
  if (code.startsWith('gave-up'))
    return 'Every try failed. Once the other side is well again, resend: all with this reason go at once.'
  if (code.startsWith('map') || code.startsWith('expr'))
    return 'A map could not work on this document. Amend the document, or correct the map and deploy it, then resend.'
  if (code.startsWith('x12')) return 'The document breaks the standard. Amend it, or ask the partner to send it again.'
  if (code === 'not-stored')
    return 'What came of it is not recorded. Look in the target system whether it was done, then resend or discard.'
  if (code === 'damaged')
    return 'A record of it in the database is damaged. Discard it, and have it sent anew; look what else happened to the database.'
  if (code === 'diverged')
    return 'It cannot run on: its document, or the release that it runs, cannot be read as it was. Discard it, and have it sent anew.'
  if (code === 'suspect')
    return 'It may be why the service ended. Look at its document; resend it alone and see what happens, or discard it.'
  return 'Look at the step where it stopped, put right what it says, then resend.'
}
