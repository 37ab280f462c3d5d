/** One live connection to the service for all pages of a browser. */
import { browser, PulseLine, type LineEvent } from './pulseLine'

const ports = new Set<MessagePort>()
const tell = (event: LineEvent) => ports.forEach((port) => port.postMessage(event))
const line = new PulseLine(browser(), tell)
line.start()

addEventListener('connect', (event) => {
  const port = (event as MessageEvent).ports[0]!
  ports.add(port)
  port.onmessage = ({ data }: MessageEvent<'leave' | 'retry'>) => {
    if (data === 'leave') ports.delete(port)
    else line.retry()
  }
  port.postMessage(line.standing())
  // The page may have just signed in, after an earlier page was refused.
  line.retry()
})
