// Questions: what becomes of traffic.
import { useQuery } from '@tanstack/react-query'

import { client, open, type Schemas } from './client'

export type Answer = Schemas['Answer']
export type Step = Schemas['Step']

export const useAnswer = (question: string) =>
  useQuery({
    queryKey: ['ask', question],
    queryFn: async () => open(await client.POST('/api/v1/ask', { body: { question } })),
    enabled: question !== '',
    retry: false,
  })
