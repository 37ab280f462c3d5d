/** One line to the service for all pages of a browser. */
import { browser, PulseLine, type Said } from './pulseLine'

const ports = new Set<MessagePort>()
const tell = (said: Said) => ports.forEach((port) => port.postMessage(said))
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
  // The page may come from signing in, while the line of the one before it was told to stay out.
  line.retry()
})
