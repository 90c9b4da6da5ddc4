// The record: who did what.
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query'

import { client, open, type Schemas } from './client'

export type Entry = Schemas['Entry']

export interface EntriesWanted {
  by: string
  deed: string
  on: string
}

export const useRecord = (wanted: EntriesWanted) =>
  useInfiniteQuery({
    queryKey: ['record', wanted],
    queryFn: async ({ pageParam }) =>
      open(
        await client.GET('/api/v1/record', {
          params: {
            query: {
              limit: 100,
              ...(pageParam > 0 && { before: pageParam }),
              ...(wanted.by !== '' && { by: wanted.by }),
              ...(wanted.deed !== '' && { deed: wanted.deed }),
              ...(wanted.on !== '' && { on: wanted.on }),
            },
          },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  })
