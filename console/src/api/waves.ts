// Waves: what is published is put in force over hosts, step by step.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { client, once, open, type Schemas } from './client'

export type Wave = Schemas['Wave']
export type WaveHost = Schemas['WaveHost']

export const useWaves = () => useQuery({ queryKey: ['waves', 'all'], queryFn: async () => open(await client.GET('/api/v1/waves')) })

/** One wave with its hosts; lists tell only how many there are. */
export const useWave = (number: number, wanted: boolean) =>
  useQuery({
    queryKey: ['waves', number],
    queryFn: async () => open(await client.GET('/api/v1/waves/{number}', { params: { path: { number } } })),
    enabled: wanted,
  })

/** Which hosts each step of a wave would settle; nothing begins by it. */
export const useWavePlan = (hosts: string[], sizes: string[]) =>
  useQuery({
    queryKey: ['waves', 'plan', hosts, sizes],
    queryFn: async () => open(await client.POST('/api/v1/waves', { body: { hosts, plan: true, ...(sizes.length > 0 && { sizes }) } })),
    retry: false,
    placeholderData: keepPreviousData,
  })

/** Starts a wave. */
export function useStartWave() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: async (body: Schemas['WaveRequest']) => open(await client.POST('/api/v1/waves', { params: { header: once() }, body })),
    onSuccess: () => queries.invalidateQueries(),
  })
}

/** What somebody can say to a wave. */
export type WaveWord = 'go-on' | 'stop' | 'return'

export function useTellWave(number: number) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: async ({ word, why }: { word: WaveWord; why: string }) => {
      const params = { path: { number }, header: once() }
      switch (word) {
        case 'go-on':
          return open(await client.POST('/api/v1/waves/{number}/go-on', { params }))
        case 'stop':
          return open(await client.POST('/api/v1/waves/{number}/stop', { params, body: { why } }))
        case 'return':
          return open(await client.POST('/api/v1/waves/{number}/return', { params }))
      }
    },
    onSuccess: () => queries.invalidateQueries(),
  })
}
