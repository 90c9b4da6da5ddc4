// The policy and its history.
import { useQuery } from '@tanstack/react-query'

import { client, open, type Schemas } from './client'

export type Revision = Schemas['Revision']

export const useRevisions = () => useQuery({ queryKey: ['policy', 'revisions'], queryFn: async () => open(await client.GET('/api/v1/revisions')) })

export const useRevision = (number: number | undefined) =>
  useQuery({
    queryKey: ['policy', 'revision', number],
    queryFn: async () => open(await client.GET('/api/v1/revisions/{number}', { params: { path: { number: number ?? 0 } } })),
    enabled: number !== undefined,
    staleTime: Infinity,
  })

/** What the second of two revisions lets through differently. */
export const useComparison = (from: number, to: number) =>
  useQuery({
    queryKey: ['policy', 'comparison', from, to],
    queryFn: async () => open(await client.POST('/api/v1/compare', { body: { from: { revision: from }, to: { revision: to } } })),
    enabled: from > 0 && to > 0,
    retry: false,
  })

/** The words of the policy language, which do not change while a page is open. */
export const useLanguage = () =>
  useQuery({ queryKey: ['language'], queryFn: async () => open(await client.GET('/api/v1/language')), staleTime: Infinity })
