// Who is signed in, and what that person may do.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { client, done, open, type Schemas } from './client'
import type { rights } from './states.gen'

export type Right = (typeof rights)[number]

export const useSession = () =>
  useQuery({ queryKey: ['session'], queryFn: async () => open(await client.GET('/api/v1/session')), retry: false, staleTime: Infinity })

/** How one signs in: a token works always, and an identity provider where there is one. */
export const useSignInWays = () =>
  useQuery({ queryKey: ['sign-in'], queryFn: async () => open(await client.GET('/api/v1/sign-in')), retry: false, staleTime: Infinity })

/**
 * Says whether a right covers all of some roles: for the whole fleet, or for each of them by name. Without roles
 * any form of the right will do. The service decides; this is for what is offered.
 */
export function covers(has: readonly string[], right: Right, roles?: readonly string[]): boolean {
  return has.some((r) => {
    const [word, of] = r.split(':')
    if (word !== right) return false
    if (of === undefined || roles === undefined) return true
    const named = of.split(',')
    return roles.length > 0 && roles.every((role) => named.includes(role))
  })
}

/** Roles that only a right for the whole fleet covers. */
export const wholeFleet: readonly string[] = []

/** Whether whoever is signed in may do something, on hosts of some roles. */
export function useMay(right: Right, roles?: readonly string[]): boolean {
  const session = useSession()
  return covers(session.data?.rights ?? [], right, roles)
}

export type Session = Schemas['Session']

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
      done(await client.DELETE('/api/v1/session'))
    },
    onSuccess: () => {
      window.location.assign('/') // a fresh page remembers nothing of what was seen
    },
  })
}
