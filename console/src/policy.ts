// What the console knows of the policy's language: where in a file one is, what may stand there,
// what a name stands for, and who follows which choice of a channel.
import { isMap, isPair, isScalar, LineCounter, parseDocument, visit, type Pair, type Scalar, type YAMLMap } from 'yaml'

/** Files of a policy folder, name → text. */
export type Texts = Record<string, string>

/** A place in a file: keys and positions from the root. */
export type Path = (string | number)[]

interface Schema {
  description?: string
  enum?: unknown[]
  type?: string | string[]
  $ref?: string
  anyOf?: Schema[]
  properties?: Record<string, Schema>
  additionalProperties?: Schema | boolean
  items?: Schema
  $defs?: Record<string, Schema>
}

/** What a name stands for. */
export interface Named {
  kind: string
  file: string
  line: number
  text: string // its definition, as it is written
}

const sections = ['keys', 'repositories', 'contracts', 'channels', 'groups', 'plans', 'sites'] as const
type Section = (typeof sections)[number]
export type Names = Record<Section, Map<string, Named>>

const isYAML = (name: string) => name.endsWith('.yaml') || name.endsWith('.yml')
const text = (node: unknown) => (isScalar(node) ? String(node.value) : '')

/** The policy's own names, by the section that defines them. A file with errors tells what it can. */
export function namesOf(files: Texts): Names {
  const out = Object.fromEntries(sections.map((s) => [s, new Map<string, Named>()])) as Names
  for (const [file, body] of Object.entries(files).filter(([n]) => isYAML(n))) {
    const lines = new LineCounter()
    const doc = parseDocument(body, { lineCounter: lines, strict: false, uniqueKeys: false })
    for (const section of sections) {
      const map = isMap(doc.contents) ? doc.get(section, true) : undefined
      for (const p of isMap(map) ? map.items : []) {
        const at = isScalar(p.key) ? (p.key.range?.[0] ?? 0) : 0
        const end = (p.value as Scalar | null)?.range?.[1] ?? at
        out[section].set(text(p.key), { kind: section, file, line: lines.linePos(at).line, text: body.slice(at, end).trimEnd() })
      }
    }
  }
  return out
}

/** The choices of a channel, in the order in which they are written. */
export function choicesOf(files: Texts, channel: string): string[] {
  for (const [, body] of Object.entries(files).filter(([n]) => isYAML(n))) {
    const map = parseDocument(body, { strict: false, uniqueKeys: false }).getIn(['channels', channel])
    if (isMap(map)) return map.items.map((p) => text(p.key)).filter((k) => k !== 'title')
  }
  return []
}

/** Where a position in a file stands: at a key, or at a value. */
export interface Where {
  path: Path // with the key where it is one
  is: 'key' | 'value'
}

function pathOf(ancestors: readonly unknown[], key: unknown): Path {
  const out: Path = []
  const all = [...ancestors]
  all.forEach((node, i) => {
    if (isPair(node)) out.push(text(node.key))
    else if (node && typeof node === 'object' && 'items' in node && !isMap(node)) {
      const child = all[i + 1]
      out.push(child === undefined ? Number(key) : (node as { items: unknown[] }).items.indexOf(child))
    }
  })
  return out
}

function find(body: string, wanted: (s: Scalar) => boolean): Where | undefined {
  let out: Where | undefined
  visit(parseDocument(body, { strict: false, uniqueKeys: false }), {
    Scalar(key, node, ancestors) {
      if (!wanted(node)) return undefined
      const path = pathOf(ancestors, key)
      const bare = path.length === 0 && ancestors.length <= 1 // a file of one word: a section begins
      out = bare ? { path: [text(node)], is: 'key' } : { path, is: key === 'key' ? 'key' : 'value' }
      return visit.BREAK
    },
  })
  return out
}

const placeholder = 'here0placeholder'

/** Where somebody types: what stands from and to these offsets is the word that is being written. */
export function whereTyped(body: string, from: number, to: number): Where | undefined {
  return find(body.slice(0, from) + placeholder + body.slice(to), (s) => s.value === placeholder)
}

/** Where an offset of a file stands, if a key or a value stands there. */
export function whereAt(body: string, offset: number): Where | undefined {
  return find(body, (s) => !!s.range && s.range[0] <= offset && offset <= s.range[1])
}

/** The parts of the schema that speak of a place. */
function parts(root: Schema, path: Path): Schema[] {
  const opened = (list: Schema[]): Schema[] =>
    list.flatMap((s) => {
      const to = s.$ref ? root.$defs?.[s.$ref.replace('#/$defs/', '')] : undefined
      return [s, ...(to ? opened([to]) : []), ...(s.anyOf ? opened(s.anyOf) : [])]
    })
  let at = [root]
  for (const step of path) {
    at = opened(at).flatMap((s) => {
      const next = typeof step === 'number' ? s.items : (s.properties?.[step] ?? s.additionalProperties)
      return next && typeof next === 'object' ? [next] : []
    })
  }
  return opened(at)
}

/** What the schema says of a place, in words. */
export function says(schema: object, path: Path): string {
  return parts(schema as Schema, path).map((s) => s.description ?? '').find(Boolean) ?? ''
}

// Which names may stand as values of a key, or in a list of it.
const kinds: Record<string, Section> = {
  repositories: 'repositories', repository: 'repositories', on: 'repositories', off: 'repositories', absent: 'repositories', order: 'repositories',
  above: 'repositories', below: 'repositories', debug: 'repositories', source: 'repositories', keys: 'keys', succeeds: 'keys',
  contract: 'contracts', to: 'groups', except: 'groups', groups: 'groups', over: 'groups', plan: 'plans', site: 'sites',
}

/** The section whose names may stand at a place; undefined where none may. */
export function kindAt(path: Path): Section | undefined {
  const keys = path.filter((p) => typeof p === 'string')
  const last = keys.at(-1) ?? ''
  return keys.at(-2) === 'from' && keys[0] === 'expect' ? 'repositories' : kinds[last]
}

export interface Offer {
  label: string
  detail?: string
  kind: 'key' | 'word' | 'name'
}

/** What may stand where somebody types. */
export function offersAt(schema: object, where: Where, files: Texts): Offer[] {
  const names = namesOf(files)
  const { path } = where
  if (where.is === 'key') {
    const owner = path.slice(0, -1)
    const own = parts(schema as Schema, owner).flatMap((s) => Object.entries(s.properties ?? {}).map(([label, p]) => ({ label, detail: p.description, kind: 'key' as const })))
    const channels = ['channels', 'choices'].includes(String(owner.at(-1))) && owner.length > 1 ? [...names.channels.keys()] : []
    return unique([...own, ...channels.map((label) => ({ label, detail: 'channel', kind: 'name' as const }))])
  }
  const found = parts(schema as Schema, path)
  const words = found.flatMap((s) => (s.enum ?? []).map(String)).concat(found.some((s) => s.type === 'boolean') ? ['true', 'false'] : [])
  const kind = kindAt(path)
  const listed = kind ? [...names[kind].keys()] : []
  const keys = path.filter((p) => typeof p === 'string')
  const follow = keys.at(-1) === 'follow' ? keys.slice(0, -1) : keys
  const choices = ['channels', 'choices'].includes(String(follow.at(-2))) && follow.length > 2 ? choicesOf(files, String(follow.at(-1))) : []
  return unique([
    ...words.map((label) => ({ label, kind: 'word' as const })),
    ...listed.map((label) => ({ label, detail: kind, kind: 'name' as const })),
    ...(kind === 'groups' && (keys.includes('assign') || keys.includes('expect')) ? [{ label: 'everyone', detail: 'every host', kind: 'word' as const }] : []),
    ...choices.map((label) => ({ label, detail: `choice of ${String(follow.at(-1))}`, kind: 'name' as const })),
  ])
}

const unique = (list: Offer[]) => [...new Map(list.map((o) => [o.label, o])).values()]

/** What is told of what stands at an offset: what the language says of it, and where a name is defined. */
export function tellsAt(schema: object, body: string, offset: number, files: Texts): { says: string; named?: Named } | undefined {
  const where = whereAt(body, offset)
  if (!where) return undefined
  const node = wordAt(body, offset)
  const kind = where.is === 'value' ? kindAt(where.path) : undefined
  const named = kind ? namesOf(files)[kind].get(node) : undefined
  const said = where.is === 'key' || !named ? says(schema, where.path) : ''
  return said || named ? { says: said, named } : undefined
}

function wordAt(body: string, offset: number): string {
  let out = ''
  visit(parseDocument(body, { strict: false, uniqueKeys: false }), {
    Scalar(_, node) {
      if (!node.range || offset < node.range[0] || offset > node.range[1]) return undefined
      out = String(node.value)
      return visit.BREAK
    },
  })
  return out
}

/** Which choice of a channel an assignment gives its groups. */
export interface Follows {
  file: string
  index: number // of the assignment in its file
  to: string
  channel: string
  choice: string
}

const assignments = (body: string) => {
  const doc = parseDocument(body, { strict: false, uniqueKeys: false })
  const list = isMap(doc.contents) ? (doc.get('assign', true) as { items?: unknown[] } | undefined)?.items : undefined
  return (list ?? []).filter((a): a is YAMLMap => isMap(a))
}
const listed = (node: unknown): string => (node && typeof node === 'object' && 'items' in node ? (node as { items: unknown[] }).items.map(text).join(', ') : text(node))
const choiceNode = (value: unknown) => (isMap(value) ? value.get('follow', true) : value)

/** Who follows what, in the order in which the folder says it. */
export function followsOf(files: Texts): Follows[] {
  return Object.entries(files).filter(([n]) => isYAML(n)).flatMap(([file, body]) =>
    assignments(body).flatMap((a, index) => {
      const channels = a.get('channels', true)
      return (isMap(channels) ? channels.items : []).map((p: Pair) => ({ file, index, to: listed(a.get('to', true)), channel: text(p.key), choice: text(choiceNode(p.value)) }))
    }),
  )
}

/** A choice as YAML writes it: 1.44 in quotes, so that it stays a text. */
const written = (choice: string) => (/^[a-z][\w-]*$/i.test(choice) && !/^(true|false|yes|no|on|off|null|y|n)$/i.test(choice) ? choice : JSON.stringify(choice))

/** The file after groups were moved to another choice: one word of it is another. */
export function moved(files: Texts, f: Follows, choice: string): string {
  const body = files[f.file] ?? ''
  const channels = assignments(body)[f.index]?.get('channels', true)
  const node = isMap(channels) ? choiceNode(channels.items.find((p) => text(p.key) === f.channel)?.value) : undefined
  if (!isScalar(node) || !node.range) return body
  return body.slice(0, node.range[0]) + written(choice) + body.slice(node.range[1])
}
