// Proposals: changes that wait for a second person.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { client, once, open, type Schemas } from './client'

export type Proposal = Schemas['Proposal']
export type ProposalShown = Schemas['ProposalShown']
export type Difference = Schemas['Difference']

export const useProposals = () => useQuery({ queryKey: ['proposals', 'all'], queryFn: async () => open(await client.GET('/api/v1/proposals')) })

/** One proposal; undefined asks for none. */
export const useProposal = (number: number | undefined) =>
  useQuery({
    enabled: number !== undefined,
    queryKey: ['proposals', number],
    queryFn: async () => open(await client.GET('/api/v1/proposals/{number}', { params: { path: { number: number ?? 0 }, query: { files: true } } })),
  })

/** What somebody can say to a proposal. */
export type ProposalWord = 'approve' | 'decline' | 'publish' | 'withdraw'

export function useTellProposal(number: number) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: async ({ word, why, sum }: { word: ProposalWord; why: string; sum: string }): Promise<unknown> => {
      const params = { path: { number }, header: once() }
      switch (word) {
        case 'approve':
          return open(await client.POST('/api/v1/proposals/{number}/approve', { params, body: { sum, note: why } }))
        case 'decline':
          return open(await client.POST('/api/v1/proposals/{number}/decline', { params, body: { why } }))
        case 'withdraw':
          return open(await client.POST('/api/v1/proposals/{number}/withdraw', { params, body: { why } }))
        case 'publish':
          return open(await client.POST('/api/v1/proposals/{number}/publish', { params }))
      }
    },
    onSettled: () => queries.invalidateQueries(),
  })
}
