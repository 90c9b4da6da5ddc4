// The clouds: how each stands, and what it has.
import { useQuery } from '@tanstack/react-query'

import { client, open, type Schemas } from './client'

export type Cloud = Schemas['Cloud']
export type CloudGroup = Schemas['CloudGroup']
export type CloudInstance = Schemas['CloudInstance']

export const useCloud = (cloud: string) =>
  useQuery({
    queryKey: ['clouds', cloud],
    queryFn: async () => open(await client.GET('/api/v1/clouds/{cloud}', { params: { path: { cloud } } })),
  })
