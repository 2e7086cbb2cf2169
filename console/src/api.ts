// The service's interface, typed from its OpenAPI document.
import createClient from 'openapi-fetch'
import type { components, paths } from './api.gen'
import { answered } from './now'

export type Schemas = components['schemas']
export type Host = Schemas['Host']
export type HostDetail = Schemas['HostDetail']
export type Finding = Schemas['Finding']
export type Rollout = Schemas['Rollout']
export type Preview = Schemas['Preview']
export type Source = Schemas['Source']
export type Seat = Schemas['Seat']
export type Outlook = Schemas['Outlook']
export type Channel = Schemas['Channel']
export type Standing = Schemas['Standing']
export type FindingGroup = Schemas['FindingGroup']
export type FleetKey = Schemas['FleetKey']

const client = createClient<paths>({ baseUrl: window.location.origin })

/** A refusal of the service, in its own words. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly details: string[] = [],
  ) {
    super(message)
  }
}

/** Tells the app that the service does not know the session any more. */
export const sessionEnded = 'lantern-session-ended'

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** Gives the data of an answer, or throws the refusal. */
export async function told<T>(call: Promise<Answer<T>>): Promise<T> {
  let a: Answer<T>
  try {
    a = await call
  } catch {
    throw new Refusal(0, 'The service does not answer. It is asked again every few seconds.')
  }
  answered(a.response.headers.get('date'))
  if (a.error !== undefined || !a.response.ok) {
    if (a.response.status === 401) window.dispatchEvent(new Event(sessionEnded))
    const p = a.error as { detail?: string; errors?: { message?: string }[] } | undefined
    throw new Refusal(a.response.status, p?.detail ?? `The service answered ${a.response.status}.`, (p?.errors ?? []).map((e) => e.message ?? ''))
  }
  return a.data as T
}

/** Queries as the service reads them: lists with commas, but for names and ranges of hosts, which have commas in them. */
export function querySerializer(params: Record<string, unknown>): string {
  const out = new URLSearchParams()
  for (const [k, v] of Object.entries(params)) {
    if (k === 'to' && Array.isArray(v)) for (const one of v as string[]) out.append(k, one)
    else if (Array.isArray(v)) {
      if (v.length) out.set(k, v.join(','))
    } else if (v !== '' && v !== undefined) out.set(k, String(v))
  }
  return out.toString()
}

export { client }
