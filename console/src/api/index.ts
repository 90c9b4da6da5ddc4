// The one client of the service's API, made from its OpenAPI document.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import createClient from 'openapi-fetch'

import type { components, paths } from './schema.gen'

export type HostStatus = components['schemas']['HostStatus']
export type State = HostStatus['state']
export type Finding = components['schemas']['Finding']
export type Packet = components['schemas']['Packet']
export type Chain = components['schemas']['Chain']
export type Rule = components['schemas']['Rule']
export type Wave = components['schemas']['Wave']
export type WaveHost = components['schemas']['WaveHost']
export type ListenerNote = components['schemas']['Note']
export type CloudStatus = components['schemas']['CloudStatus']
export type Revision = components['schemas']['Revision']

const client = createClient<paths>({ baseUrl: '/' })

/** What the service says when it does not do what was asked (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message)
  }
}

type Answer<T> = { data?: T; error?: { detail?: string; title?: string }; response: Response }

function open<T>({ data, error, response }: Answer<T>): T {
  if (error !== undefined || data === undefined) {
    throw new Problem(response.status, error?.detail ?? error?.title ?? 'the service does not answer')
  }
  return data
}

/** How often a page asks again, in milliseconds. */
const again = 10_000

export const useSession = () =>
  useQuery({ queryKey: ['session'], queryFn: async () => open(await client.GET('/api/v1/session')), retry: false, staleTime: Infinity })

/** How one signs in: a token works always, and an identity provider where there is one. */
export const useSignInWays = () =>
  useQuery({ queryKey: ['sign-in'], queryFn: async () => open(await client.GET('/api/v1/sign-in')), retry: false, staleTime: Infinity })

/** All hosts: the service gives them in parts. */
async function wholeFleet() {
  const all = open(await client.GET('/api/v1/fleet'))
  for (let next = all.next; next !== undefined; ) {
    const part = open(await client.GET('/api/v1/fleet', { params: { query: { after: next } } }))
    all.hosts = [...(all.hosts ?? []), ...(part.hosts ?? [])]
    next = part.next
  }
  return all
}

export const useFleet = () => useQuery({ queryKey: ['fleet'], queryFn: wholeFleet, refetchInterval: again })

export const useDrift = (host: string) =>
  useQuery({
    queryKey: ['drift', host],
    queryFn: async () => open(await client.GET('/api/v1/drift', { params: { query: { host } } })),
    refetchInterval: again,
  })

export const useLive = (host: string) =>
  useQuery({
    queryKey: ['live', host],
    queryFn: async () => open(await client.GET('/api/v1/hosts/{host}/live', { params: { path: { host } } })),
    refetchInterval: again,
  })

export const useListeners = (host: string) =>
  useQuery({
    queryKey: ['listeners', host],
    queryFn: async () => open(await client.GET('/api/v1/listeners', { params: { query: { host } } })),
    refetchInterval: again,
  })

export const useCopies = (host: string) =>
  useQuery({
    queryKey: ['copies', host],
    queryFn: async () => open(await client.GET('/api/v1/hosts/{host}/copies', { params: { path: { host } } })),
    refetchInterval: again,
  })

/** How often a page asks again while something is going on, in milliseconds. */
const soon = 1_000

export const useWaves = () =>
  useQuery({
    queryKey: ['waves'],
    queryFn: async () => open(await client.GET('/api/v1/waves')),
    refetchInterval: (query) => (query.state.data?.waves.some((w) => w.state === 'running') ? soon : again),
  })

/** Show one wave with its hosts; lists tell only how many there are. */
export const useWave = (wave: Wave, wanted: boolean) =>
  useQuery({
    queryKey: ['wave', wave.number],
    queryFn: async () => open(await client.GET('/api/v1/waves/{number}', { params: { path: { number: wave.number } } })),
    refetchInterval: wave.state === 'running' ? soon : again,
    enabled: wanted,
  })

export const useRevisions = () =>
  useQuery({ queryKey: ['revisions'], queryFn: async () => open(await client.GET('/api/v1/revisions')), refetchInterval: again })

export const useRevision = (number: number | undefined) =>
  useQuery({
    queryKey: ['revision', number],
    queryFn: async () => open(await client.GET('/api/v1/revisions/{number}', { params: { path: { number: number ?? 0 } } })),
    enabled: number !== undefined,
    staleTime: Infinity,
  })

/** The words of the policy language, which do not change while a page is open. */
export const useLanguage = () =>
  useQuery({ queryKey: ['language'], queryFn: async () => open(await client.GET('/api/v1/language')), staleTime: Infinity })

export function useSignIn() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: async (token: string) => open(await client.POST('/api/v1/session', { body: { token } })),
    onSuccess: (session) => {
      queries.setQueryData(['session'], session)
    },
  })
}

export function useSignOut() {
  return useMutation({
    mutationFn: async () => {
      const { response } = await client.DELETE('/api/v1/session')
      if (!response.ok) throw new Problem(response.status, 'signing out failed; try again')
    },
    onSuccess: () => {
      window.location.assign('/') // a fresh page remembers nothing of what was seen
    },
  })
}
