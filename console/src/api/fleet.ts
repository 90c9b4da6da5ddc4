// The fleet: where all hosts stand, in parts and in few words.
import { keepPreviousData, useQueries, useQuery } from '@tanstack/react-query'

import { client, open, type Schemas } from './client'

export type HostStatus = Schemas['HostStatus']
export type State = HostStatus['state']
export type CloudStatus = Schemas['CloudStatus']
export type Outlined = Schemas['OutlinedHost']
export type Concern = Schemas['Concern']

/** Which hosts a table shows, and in which order. */
export interface Wanted {
  state: State[]
  role: string
  name: string
  sort: 'name' | 'roles' | 'state' | 'in_force' | 'findings' | 'heard'
  turn: boolean
}

/** How many hosts are asked for at once. */
export const part = 100

const fleetPart = (wanted: Wanted, number: number, size = part) => ({
  queryKey: ['fleet', 'part', wanted, number],
  queryFn: async () =>
    open(
      await client.GET('/api/v1/fleet', {
        params: {
          query: {
            sort: wanted.sort,
            turn: wanted.turn,
            from: number * size,
            limit: size,
            ...(wanted.state.length > 0 && { state: wanted.state }),
            ...(wanted.role !== '' && { role: wanted.role }),
            ...(wanted.name !== '' && { name: wanted.name }),
          },
        },
      }),
    ),
  placeholderData: keepPreviousData,
})

/** How many hosts are read at once for an export: as many as the service gives. */
const whole = 1000

/** All hosts that are asked for, part after part. */
export async function allHosts(wanted: Wanted): Promise<HostStatus[]> {
  const out: HostStatus[] = []
  for (let number = 0; ; number++) {
    const got = await fleetPart(wanted, number, whole).queryFn()
    out.push(...(got.hosts ?? []))
    if ((got.hosts ?? []).length < whole) return out
  }
}

/** Parts of the fleet by their numbers: those that are looked at. The first tells how many hosts there are. */
export const useFleetParts = (wanted: Wanted, numbers: number[]) => useQueries({ queries: numbers.map((n) => fleetPart(wanted, n)) })

/** The fleet without its hosts: what is published, how many hosts are how, the clouds. */
export const useFleetHead = () =>
  useQuery({ queryKey: ['fleet', 'head'], queryFn: async () => open(await client.GET('/api/v1/fleet', { params: { query: { limit: 1 } } })) })

/** Hosts with something in their names, the first few. */
export const useFoundHosts = (name: string) =>
  useQuery({
    queryKey: ['fleet', 'found', name],
    queryFn: async () => open(await client.GET('/api/v1/fleet', { params: { query: { name, limit: 8, sort: 'state' } } })),
    enabled: name.length > 1,
    placeholderData: keepPreviousData,
  })

export const useOutline = () => useQuery({ queryKey: ['fleet', 'outline'], queryFn: async () => open(await client.GET('/api/v1/fleet/outline')) })

export const useAttention = () => useQuery({ queryKey: ['attention'], queryFn: async () => open(await client.GET('/api/v1/attention')) })

export const useHistory = (seconds: number) =>
  useQuery({
    queryKey: ['history', seconds],
    queryFn: async () => open(await client.GET('/api/v1/fleet/history', { params: { query: { since: seconds } } })),
    staleTime: 60_000,
  })
