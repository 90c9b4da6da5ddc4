// What happens is told by server-sent events; what a page shows is read again when it says so.
import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import { useMay, wholeFleet } from './session'
import { eventTypes } from './states.gen'

/** Whether changes come in as they happen. */
export type Live = 'live' | 'connecting' | 'lost' | 'at times'

/** What of the pages' data each kind of message concerns, by the beginning of a query's key. */
const concerns: Record<string, string[]> = {
  revision: ['fleet', 'hosts', 'policy', 'reach', 'ask', 'proposals', 'traffic', 'attention'],
  fleet: ['fleet', 'hosts', 'policy', 'reach', 'ask', 'proposals', 'attention'],
  proposal: ['proposals', 'attention'],
  wave: ['waves', 'fleet', 'attention'],
  host: ['fleet', 'hosts', 'attention'],
  token: ['settings'],
  key: ['settings'],
  session: ['settings'],
  cloud: ['fleet', 'clouds', 'attention'],
}

/** The same of what changed and is no event. */
const looks: Record<string, string[]> = {
  reports: ['fleet', 'hosts', 'attention', 'traffic'],
  waves: ['waves', 'fleet', 'clouds'],
}

/** How long what changed is collected before it is read again, in milliseconds. */
const collect = 1500

/** How often all is read again for whoever may not hear of the whole fleet, in milliseconds. */
const readAgain = 10_000

/** How long a page that nobody looks at keeps its stream: a browser has few connections for all of them. */
const patience = 20_000

/** Listens to all that the stream tells, until it is closed. */
function listen(mark: (keys: string[]) => void, hear: (live: Live) => void): EventSource {
  const source = new EventSource('/api/v1/stream')
  source.onopen = () => {
    hear('live')
  }
  source.onerror = () => {
    hear('lost')
  }
  for (const type of eventTypes) {
    source.addEventListener(type, () => {
      mark([...(concerns[type.split('.')[0] ?? ''] ?? []), 'record', 'events'])
    })
  }
  source.addEventListener('look', (message: MessageEvent<string>) => {
    const told = JSON.parse(message.data) as { look?: string[] }
    mark((told.look ?? []).flatMap((what) => looks[what] ?? []))
  })
  return source
}

/** Follows what happens for as long as somebody looks at the page, and says whether that works. */
export function useStream(): Live {
  const queries = useQueryClient()
  const whole = useMay('read', wholeFleet) // the stream tells of the whole fleet
  const [live, setLive] = useState<Live>('connecting')
  useEffect(() => {
    if (whole) return
    const timer = window.setInterval(() => void queries.invalidateQueries(), readAgain)
    return () => {
      window.clearInterval(timer)
    }
  }, [queries, whole])
  useEffect(() => {
    if (!whole) return
    const dirty = new Set<string>()
    let flushing: number | undefined
    let closing: number | undefined
    let source: EventSource | undefined
    let missed = false // something may have happened that nobody told
    const flush = () => {
      flushing = undefined
      for (const key of dirty) void queries.invalidateQueries({ queryKey: [key] })
      dirty.clear()
    }
    const mark = (keys: string[]) => {
      for (const key of keys) dirty.add(key)
      flushing ??= window.setTimeout(flush, collect)
    }
    const begin = () => {
      window.clearTimeout(closing)
      source ??= listen(mark, (now) => {
        setLive(now)
        if (now === 'lost') missed = true
        else if (missed) {
          missed = false
          void queries.invalidateQueries()
        }
      })
    }
    const end = () => {
      source?.close()
      source = undefined
      missed = true
    }
    const look = () => {
      if (document.hidden) closing = window.setTimeout(end, patience)
      else begin()
    }
    begin()
    document.addEventListener('visibilitychange', look)
    window.addEventListener('pagehide', end)
    window.addEventListener('pageshow', begin)
    return () => {
      end()
      window.clearTimeout(flushing)
      window.clearTimeout(closing)
      document.removeEventListener('visibilitychange', look)
      window.removeEventListener('pagehide', end)
      window.removeEventListener('pageshow', begin)
    }
  }, [queries, whole])
  return whole ? live : 'at times'
}
