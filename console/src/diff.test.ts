import { describe, expect, it } from 'vitest'
import { foldKeys, shownFiles } from './diff'

const one = `--- /etc/apt/sources.list
+++ /etc/apt/sources.list
@@ -3,3 +3,4 @@
 deb http://archive.skerry.example/skerry mussel main
--- a line of the file that begins with two dashes
+deb http://archive.skerry.example/skerry mussel main firmware
++++ and one that begins with pluses
 # end
`

describe('a diff', () => {
  it('has the numbers of its files', () => {
    const [f] = shownFiles(one)
    expect(f).toMatchObject({ name: '/etc/apt/sources.list', what: 'edited' })
    expect(f?.lines.map((l) => [l.kind, l.n])).toEqual([['same', '3'], ['drop', '4'], ['add', '4'], ['add', '5'], ['same', '6']])
    expect(f?.lines[1]?.text).toBe('-- a line of the file that begins with two dashes')
  })
  it.each([
    ['--- /dev/null\n+++ /etc/apt/keyrings/gannet.asc\n@@ -0,0 +1 @@\n+key\n', '/etc/apt/keyrings/gannet.asc', 'new file'],
    ['--- /etc/yum.repos.d/own.repo\n+++ /dev/null\n@@ -1 +0,0 @@\n-[own]\n', '/etc/yum.repos.d/own.repo', 'removed'],
    ['--- /etc/a name.list\n+++ /etc/a name.list\n@@ -1 +1 @@\n-a\n+b\n', '/etc/a name.list', 'edited'],
  ])('%#: says what becomes of a file', (text, name, what) => expect(shownFiles(text)[0]).toMatchObject({ name, what }))
  it('parts its hunks, and says where a file does not end with a newline', () => {
    const [f] = shownFiles('--- /a\n+++ /a\n@@ -1 +1 @@\n-a\n\\ No newline at end of file\n+b\n@@ -9 +9 @@\n-c\n+d\n')
    expect(f?.lines.filter((l) => l.kind === 'hunk').map((l) => l.text)).toEqual(['no newline at the end of the file', '⋯'])
  })
  it('of several files is several', () => expect(shownFiles(one + one.replaceAll('sources.list', 'sources.list.d/x.list')).length).toBe(2))
  it('of a mode alone says which it was and which it gets', () => {
    expect(shownFiles('--- /a\tmode 0666\n+++ /a\tmode 0644\n')).toEqual([{ name: '/a', what: 'mode 0666 → 0644', lines: [] }])
    expect(shownFiles('--- /a\tmode 0666\n+++ /a\tmode 0644\n@@ -1 +1 @@\n-a\n+b\n')[0]?.what).toBe('edited, mode 0666 → 0644')
    expect(shownFiles('--- /a\tuser 1000\n+++ /a\tuser root\n')[0]?.what).toBe('user 1000 → root')
    expect(shownFiles('--- /a\tmode 0666, user 1000\n+++ /a\tmode 0644, user root\n')[0]?.what).toBe('mode 0666, user 1000 → mode 0644, user root')
  })
  it('that is none is shown as it came', () => {
    for (const text of ['something else\nin two lines\n', '--- /a\n@@ -1 +1 @@\n-a\n+b\n', '--- /a\n+++ /a\n@@ -1,9 +1,9 @@\n-a\n']) {
      const lines = shownFiles(text).flatMap((f) => f.lines.map((l) => l.text)).join('\n')
      expect(lines).toContain(text.trim().split('\n').at(-1))
    }
    expect(shownFiles('')).toEqual([])
  })
})

describe('keys', () => {
  const key = (n: number, what = 'PGP PUBLIC KEY BLOCK') => [`-----BEGIN ${what}-----`, ...Array.from({ length: n }, (_, i) => `line ${i}`), `-----END ${what}-----`]
  const lines = (texts: string[]) => texts.map((text, i) => ({ kind: 'add' as const, text, n: String(i + 1) }))
  it('are folded to what they are', () => {
    expect(foldKeys(lines(['a', ...key(40), 'b'])).map((l) => l.text)).toEqual(['a', '-----BEGIN PGP PUBLIC KEY BLOCK-----', '⋯ 40 lines of the key', '-----END PGP PUBLIC KEY BLOCK-----', 'b'])
    expect(foldKeys(lines(key(3, 'CERTIFICATE')))[1]?.text).toBe('⋯ 3 lines of the certificate')
  })
  it('that do not end hide nothing', () => {
    const cut = lines(key(5).slice(0, -1))
    expect(foldKeys(cut)).toEqual(cut)
  })
  it('lose no line beside them', () => {
    const all = lines([...key(2), 'between', ...key(0), ...key(1), 'after'])
    expect(foldKeys(all).filter((l) => l.kind !== 'hunk').map((l) => l.n)).toEqual(all.filter((l) => !/^line /.test(l.text)).map((l) => l.n))
  })
})
