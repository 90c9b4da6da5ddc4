// What hosts counted and saw.
import { useQuery } from '@tanstack/react-query'

import { client, open, type Schemas } from './client'

export type Refusal = Schemas['Refusal']
export type Connection = Schemas['Connection']
export type Usage = Schemas['Usage']

const over = (since: number) => ({ params: { query: { since } } })

export const useRefused = (since: number) =>
  useQuery({ queryKey: ['traffic', 'refused', since], queryFn: async () => open(await client.GET('/api/v1/traffic/refused', over(since))), staleTime: 60_000 })

export const useSeen = (since: number) =>
  useQuery({ queryKey: ['traffic', 'seen', since], queryFn: async () => open(await client.GET('/api/v1/traffic/seen', over(since))), staleTime: 60_000 })

export const useUnused = (since: number) =>
  useQuery({ queryKey: ['traffic', 'unused', since], queryFn: async () => open(await client.GET('/api/v1/traffic/unused', over(since))), staleTime: 60_000 })
