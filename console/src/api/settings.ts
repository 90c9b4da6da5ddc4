// What belongs to the service itself: people, tokens, keys, lists, and who is told.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { client, done, once, open, type Schemas } from './client'

export type Token = Schemas['Token']

export const useTokens = () => useQuery({ queryKey: ['settings', 'tokens'], queryFn: async () => open(await client.GET('/api/v1/tokens')) })
export const usePeople = () => useQuery({ queryKey: ['settings', 'people'], queryFn: async () => open(await client.GET('/api/v1/people')) })
export const useKeys = () => useQuery({ queryKey: ['settings', 'keys'], queryFn: async () => open(await client.GET('/api/v1/keys')) })
export const useLists = () => useQuery({ queryKey: ['settings', 'lists'], queryFn: async () => open(await client.GET('/api/v1/lists')) })
export const useStore = () => useQuery({ queryKey: ['settings', 'store'], queryFn: async () => open(await client.GET('/api/v1/store')) })
export const useUndelivered = () => useQuery({ queryKey: ['events', 'undelivered'], queryFn: async () => open(await client.GET('/api/v1/events/undelivered')) })

/** A change of the settings; what is shown of them is read again afterwards. */
function useChange<In, Out>(change: (input: In) => Promise<Out>) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSettled: async () => {
      await queries.invalidateQueries({ queryKey: ['settings'] })
      await queries.invalidateQueries({ queryKey: ['events'] })
    },
  })
}

export const useMakeToken = () => useChange(async (body: Schemas['TokenRequest']) => open(await client.POST('/api/v1/tokens', { params: { header: once() }, body })))

export const useRevokeToken = () =>
  useChange(async (id: number) => {
    done(await client.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } }))
  })

export const useSignOutPerson = () => useChange(async (body: Schemas['SignOutRequest']) => open(await client.POST('/api/v1/people/sign-out', { params: { header: once() }, body })))

export const useTakeList = () => useChange(async (network: string) => open(await client.POST('/api/v1/lists/{network}/take', { params: { path: { network }, header: once() } })))

export const useSendAgain = () => useChange(async (destination: string) => open(await client.POST('/api/v1/events/destinations/{destination}/send-again', { params: { path: { destination }, header: once() } })))

export const useNewKey = () => useChange(async () => open(await client.POST('/api/v1/keys', { params: { header: once() } })))

export const useRetireKey = () => useChange(async () => open(await client.DELETE('/api/v1/keys', { params: { header: once() } })))
