import { describe, expect, it } from 'vitest'
import { csv, every } from './csv'

describe('a list as a file', () => {
  it('has its columns first, and ends each line as spreadsheets want it', () =>
    expect(csv(['host', 'why'], [{ host: 'gw-01', why: 'says "no", twice' }, { host: 'gw-02' }])).toBe('host,why\r\n"gw-01","says ""no"", twice"\r\n"gw-02",""\r\n'))
  it.each(['=1+1', '+1', '-1', '@x', '\tx'])('%j is no formula', (text) => expect(csv(['a'], [{ a: text }])).toBe(`a\r\n"'${text}"\r\n`))
})

describe('every row of a list', () => {
  const pages = (total: number, per: number) => (n: number) => {
    const from = (n - 1) * per
    return Promise.resolve({ total, items: Array.from({ length: Math.max(0, Math.min(per, total - from)) }, (_, i) => from + i) })
  }
  it.each([[0, 10], [1, 10], [10, 10], [11, 10], [25, 10]])('%d in pages of %d', async (total, per) => expect(await every(pages(total, per))).toEqual(Array.from({ length: total }, (_, i) => i)))
  it('one that has become shorter ends', async () => expect(await every((n) => Promise.resolve({ total: 5, items: n === 1 ? [1, 2] : [] }))).toEqual([1, 2]))
})
