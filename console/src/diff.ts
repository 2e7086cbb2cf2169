// A unified diff as it is shown: file by file, each line with its number, keys folded until
// somebody wants to see them.
import { parsePatch, type StructuredPatch } from 'diff'

export interface Line {
  kind: 'add' | 'drop' | 'same' | 'hunk'
  text: string
  n: string // of the old text where the line goes, else of the new one
}

export interface ShownFile {
  name: string
  what: string
  lines: Line[]
}

const keyStart = /-----BEGIN (PGP PUBLIC KEY BLOCK|CERTIFICATE)-----/
const keyEnd = /-----END (PGP PUBLIC KEY BLOCK|CERTIFICATE)-----/
const nowhere = '/dev/null'
const kinds: Record<string, Line['kind']> = { '+': 'add', '-': 'drop', ' ': 'same' }

function numbered(patch: StructuredPatch): Line[] {
  const out: Line[] = []
  for (const h of patch.hunks) {
    let was = h.oldStart
    let is = h.newStart
    if (out.length) out.push({ kind: 'hunk', text: '⋯', n: '' })
    for (const line of h.lines) {
      const kind = kinds[line[0] ?? ' ']
      if (!kind) {
        out.push({ kind: 'hunk', text: 'no newline at the end of the file', n: '' })
        continue
      }
      out.push({ kind, text: line.slice(1), n: String(kind === 'drop' ? was : is) })
      if (kind !== 'add') was++
      if (kind !== 'drop') is++
    }
  }
  return out
}

/** foldKeys leaves the first and last line of each key, and says how many stand between. */
export function foldKeys(lines: Line[]): Line[] {
  const out: Line[] = []
  for (let i = 0; i < lines.length; i++) {
    const line = lines[i] as Line
    out.push(line)
    const end = keyStart.test(line.text) ? lines.findIndex((l, at) => at > i && keyEnd.test(l.text)) : -1
    if (end > i + 1) {
      out.push({ kind: 'hunk', text: `⋯ ${end - i - 1} lines of the ${line.text.includes('CERT') ? 'certificate' : 'key'}`, n: '' })
      i = end - 1
    }
  }
  return out
}

/** moded says which mode a file has and gets, and whose it is; that stands behind its names. */
function moded(p: StructuredPatch): string {
  const [was, is] = [p.oldHeader ?? '', p.newHeader ?? '']
  return was === is ? '' : `${was} → ${was.includes(',') ? is : is.replace(/^\w+ /, '')}`
}

/** shownFiles takes a diff apart. A text that is no diff is shown as it is. */
export function shownFiles(text: string): ShownFile[] {
  let patches: StructuredPatch[]
  try {
    patches = parsePatch(text).filter((p) => p.hunks.length || p.oldHeader !== p.newHeader)
  } catch {
    patches = []
  }
  if (!patches.length && text.trim()) return [{ name: 'as it came', what: '', lines: text.trimEnd().split('\n').map((t, i) => ({ kind: 'same', text: t, n: String(i + 1) })) }]
  return patches.map((p) => ({
    name: (p.newFileName === nowhere ? p.oldFileName : p.newFileName) ?? '',
    what: p.oldFileName === nowhere ? 'new file' : p.newFileName === nowhere ? 'removed' : [p.hunks.length ? 'edited' : '', moded(p)].filter(Boolean).join(', '),
    lines: numbered(p),
  }))
}
