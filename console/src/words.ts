import type { Rollout, Schemas } from './api'

// How states and times are said and marked. A sign always stands beside the word.
export const stateLook: Record<string, { sign: string; tone: string }> = {
  failed: { sign: '✗', tone: 'bad' },
  drifted: { sign: '≠', tone: 'warn' },
  silent: { sign: '?', tone: 'warn' },
  changing: { sign: '→', tone: 'busy' },
  new: { sign: '·', tone: 'plain' },
  steady: { sign: '=', tone: 'good' },
}

export const states = Object.keys(stateLook)

export const severityLook: Record<string, { sign: string; tone: string }> = {
  danger: { sign: '!!', tone: 'bad' },
  fault: { sign: '!', tone: 'warn' },
  note: { sign: '–', tone: 'plain' },
}

export const progressLook: Record<string, { sign: string; tone: string }> = {
  queued: { sign: '·', tone: 'plain' },
  skipped: { sign: '–', tone: 'plain' },
  waiting: { sign: '·', tone: 'plain' },
  working: { sign: '→', tone: 'busy' },
  done: { sign: '✓', tone: 'good' },
  unchanged: { sign: '=', tone: 'plain' },
  failed: { sign: '✗', tone: 'bad' },
  behind: { sign: '?', tone: 'warn' },
}

// editWord says what is done to a file; a keyring that its package manager alone writes loses a key.
export const editWord = (action: string) => (action === 'distrust' ? 'take a key out of' : action)

export const keyLook: Record<string, { sign: string; tone: string }> = {
  revoked: { sign: '!!', tone: 'bad' },
  withdrawn: { sign: '!!', tone: 'bad' },
  ended: { sign: '!!', tone: 'bad' },
  ends: { sign: '!', tone: 'warn' },
  weak: { sign: '!', tone: 'warn' },
  unknown: { sign: '?', tone: 'warn' },
  good: { sign: '=', tone: 'good' },
}

export const keyWord: Record<string, string> = {
  revoked: 'revoked',
  withdrawn: 'withdrawn',
  ended: 'has ended',
  ends: 'ends soon',
  weak: 'weak',
  unknown: 'not in the policy',
  good: 'as the policy says',
}

export const placeLook: Record<string, { sign: string; tone: string }> = {
  trouble: { sign: '!!', tone: 'bad' },
  unknown: { sign: '?', tone: 'warn' },
  unsigned: { sign: '·', tone: 'plain' },
  good: { sign: '=', tone: 'good' },
}

export const placeWord: Record<string, string> = {
  trouble: 'refused or not reached',
  unknown: 'not known',
  unsigned: 'nothing pinned signs it',
  good: 'good',
}

// What the service could not reach itself is not refused by that: others stand elsewhere.
const elsewhere = ['unreachable', 'unresolved', 'slow', 'cut', 'tls', 'proxy', 'server']
export const seen = (l: { state: string; kind?: string }) =>
  l.state !== 'trouble' ? (placeWord[l.state] ?? l.state) : elsewhere.includes(l.kind ?? '') ? 'not reached' : 'refused'

export const contractLook: Record<string, { sign: string; tone: string }> = {
  good: { sign: '=', tone: 'good' },
  ending: { sign: '!', tone: 'warn' },
  over: { sign: '✗', tone: 'bad' },
  ended: { sign: '✗', tone: 'bad' },
  withdrawn: { sign: '✗', tone: 'bad' },
  'to-come': { sign: '·', tone: 'plain' },
}

export const accessWord: Record<string, string> = { basic: 'login', 'client-certificate': 'certificate', 'token-url': 'token' }

const units = [
  { unit: 'day', seconds: 86400, from: 172800 },
  { unit: 'hour', seconds: 3600, from: 7200 },
  { unit: 'minute', seconds: 60, from: 120 },
  { unit: 'second', seconds: 1, from: 0 },
] as const

/** How long so many seconds are, in one unit. */
export function span(seconds: number): string {
  const { unit, seconds: one } = units.find((u) => seconds >= u.from) ?? units[3]
  return new Intl.NumberFormat('en', { style: 'unit', unit, unitDisplay: unit === 'day' ? 'long' : 'narrow' }).format(Math.floor(seconds / one))
}

/** How long until a moment, in one unit. */
export function until(iso: string, now: number): string {
  const s = Math.round((Date.parse(iso) - now) / 1000)
  return s <= 0 ? 'over' : span(s)
}

/** The day of a moment in the viewer's zone; where it stands alone, Moment says the moment exactly. */
export function date(iso: string): string {
  return clock(iso).slice(0, 10)
}

export function money(hundredths: number, currency: string): string {
  return `${(hundredths / 100).toFixed(2)} ${currency}`.trim()
}

/** What some contracts cost for a year, by currency, and of how many that is not known. */
export function yearly(costs: Schemas['Cost'][]): string {
  const unknown = costs.reduce((n, c) => n + c.unknown, 0)
  const sums = costs.filter((c) => c.hundredths > 0).map((c) => money(c.hundredths, c.currency))
  return [...sums, ...(unknown ? [`${count(unknown, 'contract', 'contracts')} not known`] : [])].join(' + ')
}

const past = new Intl.RelativeTimeFormat('en', { style: 'narrow' })

/** How long ago a moment was, in one unit, as the command line says it. */
export function ago(iso: string | null | undefined, now: number): string {
  if (!iso) return 'never'
  const s = Math.max(0, Math.round((now - Date.parse(iso)) / 1000))
  const { unit, seconds: one } = s >= 60 && s < 120 ? units[2] : (units.find((u) => s >= u.from) ?? units[3])
  return past.format(-Math.floor(s / one), unit)
}

/** For how long something has stood since a moment, in one unit. */
export function lasting(iso: string, now: number): string {
  return span(Math.max(0, Math.round((now - Date.parse(iso)) / 1000)))
}

/** A text that begins as a sentence does. */
export function sentence(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1)
}

const parts = new Intl.DateTimeFormat('en-GB', {
  year: 'numeric', month: '2-digit', day: '2-digit', hour: '2-digit', minute: '2-digit', second: '2-digit', hourCycle: 'h23', timeZoneName: 'short',
})

/** A moment in the viewer's zone, which is named. */
export function clock(iso: string | null | undefined): string {
  if (!iso) return '–'
  const p: Record<string, string> = {}
  for (const { type, value } of parts.formatToParts(new Date(iso))) p[type] = value
  return `${p.year}-${p.month}-${p.day} ${p.hour}:${p.minute}:${p.second} ${p.timeZoneName}`
}

/** A moment in the viewer's zone, and exactly in UTC as logs have it. */
export function exact(iso: string | null | undefined): string {
  return iso ? `${clock(iso)} = ${iso}` : '–'
}

export function short(name: string): string {
  return name.split('.')[0] ?? name
}

const grouped = new Intl.NumberFormat('en')
const plural = new Intl.PluralRules('en')

/** A number as people read it: 100,000. */
export const number = (n: number): string => grouped.format(n)

export function count(n: number, one: string, many: string): string {
  return `${number(n)} ${plural.select(n) === 'one' ? one : many}`
}

export function shortKey(fingerprint: string): string {
  return fingerprint.length > 16 ? '…' + fingerprint.slice(-16) : fingerprint
}

/** What the policy makes of a source of a host, in a few words. */
export function fateWords(f: { stands_as: string; then: string; why: string; repositories: string[] }): string {
  const names = f.repositories.join(', ')
  const then: Record<string, string> = { 'switch-on': 'goes on', 'switch-off': 'goes off', rewrite: 'is rewritten', remove: 'goes', 'comment-out': 'becomes a comment' }
  const what = f.stands_as === 'ours' ? names || 'the policy’s own' : f.stands_as === 'ruled' ? `${names}, in place` : f.why
  return then[f.then] ? `${what}: ${then[f.then]} with the next change` : what
}

/** The hosts to which a rollout carried nothing: that were left behind, passed over, or never come to. */
export const leftOut = (r: Rollout) => (r.counts.behind ?? 0) + (r.counts.skipped ?? 0) + (r.not_reached ?? 0)

/** The hosts on which a rollout did not do what it was for. */
export const missing = (r: Rollout) => (r.counts.failed ?? 0) + leftOut(r)
