// Which services pass between all roles and networks.
import { useQuery } from '@tanstack/react-query'

import { client, open, type Schemas } from './client'

export type Reach = Schemas['Reach']
export type End = Schemas['ReachEnd']
export type Cell = Schemas['ReachCell']

/** Whose matrix is asked for: a revision's, or that of an instant; '' is what is published. */
export type When = string

const query = (when: When) => (when === '' ? {} : /^\d+$/.test(when) ? { revision: Number(when) } : { at: new Date(when).toISOString() })

/** A matrix; undefined asks for none. */
export const useReach = (when: When | undefined) =>
  useQuery({
    queryKey: ['reach', when],
    queryFn: async () => open(await client.GET('/api/v1/reach', { params: { query: query(when ?? '') } })),
    enabled: when !== undefined,
    staleTime: 60_000,
    retry: false,
  })
