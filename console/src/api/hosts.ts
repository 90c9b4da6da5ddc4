// One host: what it has in force, what it tells of itself, and what it can be asked.
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { client, once, open, type Schemas } from './client'

export type Finding = Schemas['Finding']
export type Packet = Schemas['Packet']
export type Chain = Schemas['Chain']
export type Rule = Schemas['Rule']
export type ListenerNote = Schemas['Note']
export type OpenConnection = Schemas['OpenConnection']
export type PastChange = Schemas['PastChange']
export type TaskStatus = Schemas['TaskStatus']

/** A host by its name, as the table of the fleet has it. */
export const useHost = (host: string) =>
  useQuery({
    queryKey: ['hosts', host, 'status'],
    queryFn: async () => {
      const fleet = open(await client.GET('/api/v1/fleet', { params: { query: { name: host, sort: 'name' } } }))
      return { revision: fleet.revision, host: (fleet.hosts ?? []).find((h) => h.name === host) }
    },
  })

/** How a host differs from what is published; at an instant of the past, from what was published then. */
export const useDrift = (host: string, at: string) =>
  useQuery({
    queryKey: ['hosts', host, 'drift', at],
    queryFn: async () => open(await client.GET('/api/v1/drift', { params: { query: { host, ...(at !== '' && { at }) } } })),
  })

export const useLive = (host: string, at: string) =>
  useQuery({
    queryKey: ['hosts', host, 'live', at],
    queryFn: async () => open(await client.GET('/api/v1/hosts/{host}/live', { params: { path: { host }, query: at === '' ? {} : { at } } })),
  })

/** Each change of what was in force on a host, the newest first. */
export const usePast = (host: string) =>
  useInfiniteQuery({
    queryKey: ['hosts', host, 'past'],
    queryFn: async ({ pageParam }) => open(await client.GET('/api/v1/hosts/{host}/past', { params: { path: { host }, query: pageParam > 0 ? { before: pageParam } : {} } })),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
  })

/** Opens real connections, and gives what came of each. */
export const useProbe = () => useMutation({ mutationFn: async (body: Schemas['ProbeRequest']) => open(await client.POST('/api/v1/probes', { params: { header: once() }, body })) })

export const useListeners = (host: string) =>
  useQuery({
    queryKey: ['hosts', host, 'listeners'],
    queryFn: async () => open(await client.GET('/api/v1/listeners', { params: { query: { host } } })),
  })

export const useCopies = (host: string) =>
  useQuery({
    queryKey: ['hosts', host, 'copies'],
    queryFn: async () => open(await client.GET('/api/v1/hosts/{host}/copies', { params: { path: { host } } })),
  })

/** How often it is looked whether a host has done what it was asked, in milliseconds. */
const soon = 700

/** Asks a host to do something, and waits until it says what became of it. */
export function useAskHost(host: string) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: async (body: Schemas['TaskRequestBody']) => {
      const params = { path: { host }, header: once() }
      const asked = open(await client.POST('/api/v1/hosts/{host}/tasks', { params, body }))
      for (let task = asked; ; ) {
        if (task.done !== undefined) {
          if (task.result?.failed !== undefined) throw new Error(task.result.failed)
          return task
        }
        if (Date.now() > new Date(task.until).getTime()) throw new Error(`${host} did not answer in time; it does what it was asked when it comes again, if it is not too late by then`)
        await new Promise((ends) => setTimeout(ends, soon))
        task = open(await client.GET('/api/v1/hosts/{host}/tasks/{id}', { params: { path: { host, id: asked.id } } }))
      }
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ['hosts', host] }),
  })
}
