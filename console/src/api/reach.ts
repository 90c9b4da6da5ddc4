// Which services pass between all roles and networks.
import { useQuery } from '@tanstack/react-query'

import { client, open, type Schemas } from './client'

export type Reach = Schemas['Reach']
export type End = Schemas['ReachEnd']
export type Cell = Schemas['ReachCell']

/** The matrix of a revision; 0 is what is published, undefined asks for none. */
export const useReach = (revision: number | undefined) =>
  useQuery({
    queryKey: ['reach', revision],
    queryFn: async () => open(await client.GET('/api/v1/reach', { params: { query: { revision: revision ?? 0 } } })),
    enabled: revision !== undefined,
    staleTime: 60_000,
    retry: false,
  })
