import { describe, expect, it } from 'vitest'
import type { Rollout } from './api'
import { ago, clock, contractLook, count, exact, keyLook, missing, number, placeLook, progressLook, seen, severityLook, short, span, stateLook, until, yearly } from './words'

const now = Date.parse('2026-11-25T12:00:00Z')
const before = (seconds: number) => new Date(now - seconds * 1000).toISOString()

describe('ages', () => {
  it.each([
    [0, /^(0s ago|now)$/], [59, /^59s ago$/], [60, /^1m(in)? ago$/], [119, /^1m(in)? ago$/], [120, /^2m(in)? ago$/], [7199, /^119m(in)? ago$/],
    [7200, /^2h ago$/], [172_799, /^47h ago$/], [172_800, /^2d ago$/], [400 * 86_400, /^400d ago$/],
  ])('%d seconds', (s, says) => expect(ago(before(s), now)).toMatch(says))
  it('never is said where there was none', () => expect(ago(null, now)).toBe('never'))
  it('a moment ahead of the clock is not ahead of it in words', () => expect(ago(before(-500), now)).toBe(ago(before(0), now)))
})

describe('spans', () => {
  it.each([[0, '0s'], [119, '119s'], [120, '2m'], [7200, '2h'], [86_400, '24h'], [172_800, '2 days']])('%d seconds', (s, says) => expect(span(s)).toBe(says))
  it('what has passed is over', () => expect(until(before(1), now)).toBe('over'))
  it('what comes is told in one unit', () => expect(until(before(-3 * 86_400), now)).toBe('3 days'))
})

describe('numbers', () => {
  it.each([[0, '0 hosts'], [1, '1 host'], [2, '2 hosts'], [93_750, '93,750 hosts']])('%d', (n, says) => expect(count(n, 'host', 'hosts')).toBe(says))
  it('are grouped', () => expect(number(100_000)).toBe('100,000'))
})

describe('the year ahead', () => {
  it.each([
    [[], ''], [[['EUR', 108_000, 0]], '1080.00 EUR'], [[['', 0, 1]], '1 contract not known'],
    [[['EUR', 5, 1], ['SEK', 200, 1]], '0.05 EUR + 2.00 SEK + 2 contracts not known'],
  ] as [[string, number, number][], string][])('%j', (list, says) =>
    expect(yearly(list.map(([currency, hundredths, unknown]) => ({ currency, hundredths, unknown })))).toBe(says))
})

describe('moments', () => {
  it('name the zone', () => expect(clock('2026-11-25T12:00:00Z')).toMatch(/^2026-11-2[456] \d\d:\d\d:00 \S+$/))
  it('keep the exact one beside it', () => expect(exact('2026-11-25T12:00:00Z')).toMatch(/ = 2026-11-25T12:00:00Z$/))
  it('say where there is none', () => expect([clock(undefined), exact(null)]).toEqual(['–', '–']))
})

it('what was only not reached is not called refused', () => {
  expect(seen({ state: 'trouble', kind: 'unreachable' })).toBe('not reached')
  expect(seen({ state: 'trouble', kind: 'expired' })).toBe('refused')
  expect(seen({ state: 'good' })).toBe('good')
})

it('a name is shortened at its first dot', () => expect([short('gw-01.brinewick.test'), short('gw-01')]).toEqual(['gw-01', 'gw-01']))

it('a sign stands beside every word, and no two words of one list share sign and tone', () => {
  for (const looks of [stateLook, severityLook, keyLook, placeLook, progressLook, contractLook]) for (const l of Object.values(looks)) expect(l.sign.trim() && l.tone).toBeTruthy()
  for (const looks of [stateLook, severityLook, placeLook]) {
    const all = Object.values(looks).map((l) => l.sign + l.tone)
    expect(new Set(all).size).toBe(all.length)
  }
})

it('counts the hosts on which a rollout did not do what it was for', () => {
  const of = (counts: Record<string, number>, not_reached?: number) => missing({ counts, not_reached } as unknown as Rollout)
  expect(of({ done: 3, unchanged: 4 })).toBe(0)
  expect(of({ done: 3, failed: 1, behind: 2, skipped: 4 })).toBe(7)
  expect(of({ done: 2, failed: 1 }, 2)).toBe(3)
})
