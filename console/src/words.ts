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
  waiting: { sign: '·', tone: 'plain' },
  working: { sign: '→', tone: 'busy' },
  done: { sign: '✓', tone: 'good' },
  unchanged: { sign: '=', tone: 'plain' },
  failed: { sign: '✗', tone: 'bad' },
}

export function ago(iso: string | null | undefined, now: number): string {
  if (!iso) return 'never'
  const s = Math.max(0, Math.round((now - Date.parse(iso)) / 1000))
  if (s < 60) return `${s} s ago`
  if (s < 3600) return `${Math.floor(s / 60)} min ago`
  if (s < 172800) return `${Math.floor(s / 3600)} h ago`
  return `${Math.floor(s / 86400)} days ago`
}

export function clock(iso: string | null | undefined): string {
  return iso ? new Date(iso).toLocaleString([], { dateStyle: 'medium', timeStyle: 'medium' }) : '–'
}

export function short(name: string): string {
  return name.split('.')[0] ?? name
}

export function count(n: number, one: string, many: string): string {
  return `${n} ${n === 1 ? one : many}`
}

export function shortKey(fingerprint: string): string {
  return fingerprint.length > 16 ? '…' + fingerprint.slice(-16) : fingerprint
}
