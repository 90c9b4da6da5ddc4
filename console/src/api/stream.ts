// What happens is told by server-sent events; what a page shows is read again when it says so.
import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import { eventTypes } from './states.gen'

/** Whether changes come in as they happen. */
export type Live = 'live' | 'connecting' | 'lost'

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
  cloud: ['fleet', 'attention'],
}

/** The same of what changed and is no event. */
const looks: Record<string, string[]> = {
  reports: ['fleet', 'hosts', 'attention', 'traffic'],
  waves: ['waves', 'fleet'],
}

/** How long what changed is collected before it is read again, in milliseconds. */
const collect = 1500

/** Follows what happens for as long as the page is open, and says whether that works. */
export function useStream(): Live {
  const queries = useQueryClient()
  const [live, setLive] = useState<Live>('connecting')
  useEffect(() => {
    const dirty = new Set<string>()
    let timer: number | undefined
    let lost = false
    const flush = () => {
      timer = undefined
      if (document.hidden) return // read again when somebody looks
      for (const key of dirty) void queries.invalidateQueries({ queryKey: [key] })
      dirty.clear()
    }
    const mark = (keys: string[]) => {
      for (const key of keys) dirty.add(key)
      timer ??= window.setTimeout(flush, collect)
    }
    const source = new EventSource('/api/v1/stream')
    source.onopen = () => {
      setLive('live')
      if (lost) void queries.invalidateQueries()
      lost = false
    }
    source.onerror = () => {
      lost = true
      setLive('lost')
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
    document.addEventListener('visibilitychange', flush)
    return () => {
      source.close()
      window.clearTimeout(timer)
      document.removeEventListener('visibilitychange', flush)
    }
  }, [queries])
  return live
}
