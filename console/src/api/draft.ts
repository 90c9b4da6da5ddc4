// A draft of the policy: kept in the tab, held against what is published, proposed or published.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { client, once, open, type Schemas } from './client'

export type PolicyFile = Schemas['Source']

/** A draft, and the revision that it was made from. */
export interface Draft {
  base: number
  files: PolicyFile[]
}

const key = 'yfence-draft'

export function keptDraft(): Draft | undefined {
  const kept = sessionStorage.getItem(key)
  return kept === null ? undefined : (JSON.parse(kept) as Draft)
}

export function keepDraft(draft: Draft | undefined) {
  if (draft) sessionStorage.setItem(key, JSON.stringify(draft))
  else sessionStorage.removeItem(key)
}

/** What a draft newly admits and refuses; its error says what is wrong with the text. */
export const useMeaning = (files: PolicyFile[] | undefined) =>
  useQuery({
    queryKey: ['policy', 'meaning', files],
    queryFn: async () => open(await client.POST('/api/v1/compare', { body: { to: { files: files ?? [] } } })),
    enabled: files !== undefined,
    retry: false,
    staleTime: Infinity,
    gcTime: 60_000,
    placeholderData: keepPreviousData,
  })

/** A place in a draft. */
export type Place = Schemas['AssistRequest']

/** Files with another name at some places; lines and columns count from 1, columns in letters. */
export function renamed(files: PolicyFile[], places: Schemas['Place'][], name: string): PolicyFile[] {
  const last = [...places].sort((a, b) => b.line - a.line || b.column - a.column) // so that what is replaced moves none that is still to come
  return files.map((f) => {
    const lines = f.text.split('\n')
    for (const p of last) {
      if (p.file !== f.name) continue
      const letters = Array.from(lines[p.line - 1] ?? '')
      letters.splice(p.column - 1, p.width, name)
      lines[p.line - 1] = letters.join('')
    }
    return { ...f, text: lines.join('\n') }
  })
}

/** Help at a place of a draft. */
export const assist = async (body: Place) => open(await client.POST('/api/v1/assist', { body }))

export function useSubmit() {
  const queries = useQueryClient()
  const propose = useMutation({
    mutationFn: async (body: Schemas['ProposalRequest']) => open(await client.POST('/api/v1/proposals', { params: { header: once() }, body })),
    onSuccess: () => queries.invalidateQueries(),
  })
  const publish = useMutation({
    mutationFn: async (body: Schemas['PublishRequest']) => open(await client.POST('/api/v1/revisions', { params: { header: once() }, body })),
    onSuccess: () => queries.invalidateQueries(),
  })
  return { propose, publish }
}
