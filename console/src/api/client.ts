// The one client of the service's API, made from its OpenAPI document.
import createClient from 'openapi-fetch'

import type { components, paths } from './schema.gen'

export type Schemas = components['schemas']

export const client = createClient<paths>({ baseUrl: '/' })

/** What the service says when it does not do what was asked (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly problems: Schemas['Problem'][] = [],
  ) {
    super(message)
  }
}

/** What an error says, whatever was thrown. */
export const messageOf = (error: unknown) => (error instanceof Error ? error.message : String(error))

type Answer<T> = { data?: T; error?: { detail?: string; title?: string; problems?: Schemas['Problem'][] | null }; response: Response }

/** The answer itself, or the problem as an error. */
export function open<T>({ data, error, response }: Answer<T>): T {
  if (error !== undefined || data === undefined) {
    throw new Problem(response.status, error?.detail ?? error?.title ?? 'the service does not answer', error?.problems ?? [])
  }
  return data
}

/** The same of a call that answers nothing. */
export function done({ error, response }: Answer<unknown>) {
  if (!response.ok) throw new Problem(response.status, error?.detail ?? error?.title ?? 'the service does not answer', error?.problems ?? [])
}

/** A key by which a request that is sent again counts once. */
export const once = () => ({
  'Idempotency-Key': [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, '0')).join(''),
})
