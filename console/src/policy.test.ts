import { describe, expect, it } from 'vitest'
import schema from '../../docs/policy.schema.json'
import { choicesOf, followsOf, kindAt, moved, namesOf, offersAt, says, tellsAt, whereTyped, type Texts } from './policy'

const channels = `format: patient-lantern/1

contracts:
  gannet: { title: Gannet virtual machines }

channels:
  gannet:
    title: Virtual machines
    licensed: { repository: gannet-licensed, contract: gannet }
    open: { repository: gannet-open }
  plover:
    rolling: { repository: plover-rolling }
    "1.44": { repository: plover-pinned, pinned: "1.44" }
`
const hosts = `# Who gets what.
groups:
  gateways: { hosts: ["gw-{01..12}.brinewick.test"] }
  reef: { where: 'label.site == "reef"' }

assign:
  - to: everyone
    repositories: [base]

  - to: gateways
    repositories: [saltmarsh]
    channels: { gannet: open } # one small machine each

  - to: [reef, desks]
    channels:
      plover: "1.44" # the reef tries what comes next
      gannet: { follow: licensed, variants: [debug] }
`
const policy = `repositories:
  base:
    in-place: true
  saltmarsh: # the sea's own
    keys: [saltmarsh-2026]
    deb: { url: "https://packages.saltmarsh.example/apt/9.x" }
`
const files: Texts = { 'channels.yaml': channels, 'hosts.yaml': hosts, 'policy.yaml': policy, 'keys/x.asc': 'groups: { none: {} }' }

/** offered is what is offered where ‸ stands in a text. */
function offered(marked: string, file = 'hosts.yaml'): string[] {
  const to = marked.indexOf('‸')
  const body = marked.replace('‸', '')
  const from = to - (/[\w.-]*$/.exec(body.slice(0, to))?.[0].length ?? 0)
  const where = whereTyped(body, from, to)
  return where ? offersAt(schema, where, { ...files, [file]: body }).map((o) => o.label) : []
}

describe('names', () => {
  it('are those that the folder defines, each with its line', () => {
    const n = namesOf(files)
    expect([...n.groups.keys()]).toEqual(['gateways', 'reef'])
    expect([...n.repositories.keys()]).toEqual(['base', 'saltmarsh'])
    expect(n.repositories.get('saltmarsh')).toMatchObject({ file: 'policy.yaml', line: 4 })
    expect(n.channels.get('plover')?.text).toContain('rolling:')
  })
  it('of a file with errors are those that can be told', () => expect([...namesOf({ 'x.yaml': 'groups:\n  one: {}\n  two: { hosts: [\n' }).groups.keys()]).toContain('one'))
  it('of choices leave the title out', () => expect(choicesOf(files, 'gannet')).toEqual(['licensed', 'open']))
})

describe('what may stand where somebody types', () => {
  it.each([
    ['a key of an assignment', `${hosts}\n  - to: reef\n    ‸`, ['repositories', 'channels', 'site', 'plan']],
    ['a key that is begun', `${hosts}\n  - to: reef\n    rep‸`, ['repositories']],
    ['a key in braces', 'assign:\n  - { to: reef, ‸ }\n', ['channels', 'seats']],
    ['a section of a file', 'gro‸', ['groups', 'assign', 'sites']],
    ['a group, or everyone', 'groups: { own: {} }\nassign:\n  - to: ‸', ['own', 'everyone']],
    ['a group in a list', 'groups: { own: {} }\nassign:\n  - to: [own, ‸]', ['own', 'everyone']],
    ['a repository', 'assign:\n  - to: everyone\n    repositories: [sa‸]', ['base', 'saltmarsh']],
    ['a word of the language', 'assign:\n  - to: everyone\n    unlisted: ‸', ['report', 'switch-off', 'remove']],
    ['yes or no', 'repositories:\n  x:\n    in-place: ‸', ['true', 'false']],
    ['a channel', 'assign:\n  - to: everyone\n    channels: { ‸ }', ['gannet', 'plover']],
    ['a choice of it', 'assign:\n  - to: everyone\n    channels: { plover: ‸ }', ['rolling', '1.44']],
    ['a choice of it, further in', 'assign:\n  - to: everyone\n    channels:\n      plover:\n        follow: ‸', ['rolling', '1.44']],
  ])('%s', (_, text, want) => expect(offered(text)).toEqual(expect.arrayContaining(want)))
  it('names no repository where a group is meant', () => expect(offered('assign:\n  - to: ‸')).not.toContain('saltmarsh'))
})

describe('what is told of what one points at', () => {
  const told = (body: string, word: string) => tellsAt(schema, body, body.indexOf(word) + 1, files)
  it('is what a key means', () => expect(told(hosts, 'assign:')?.says).toBe('who gets what'))
  it('is what a name stands for, and where', () => {
    expect(told(hosts, 'saltmarsh]')?.named).toMatchObject({ kind: 'repositories', file: 'policy.yaml', line: 4 })
    expect(told(hosts, 'saltmarsh]')?.named?.text).toContain('saltmarsh-2026')
  })
  it('is nothing of a comment', () => expect(told(hosts, '# Who')).toBeUndefined())
  it('knows every place of the schema that has words', () => {
    for (const path of [['assign', 0, 'to'], ['repositories', 'x', 'deb', 'suites'], ['channels', 'c', 'rolling', 'repository'], ['expect', 0, 'from']]) expect(says(schema, path), path.join('.')).not.toBe('')
  })
  it('tells the kinds of names apart by where they stand', () => expect([kindAt(['assign', 0, 'to']), kindAt(['expect', 0, 'from', 'tide-model']), kindAt(['groups', 'x', 'where'])]).toEqual(['groups', 'repositories', undefined]))
})

describe('moving groups to another choice', () => {
  it('knows who follows what', () => {
    expect(followsOf(files).map((f) => `${f.to}: ${f.channel} ${f.choice}`)).toEqual(['gateways: gannet open', 'reef, desks: plover 1.44', 'reef, desks: gannet licensed'])
  })
  it('writes one word and leaves every other byte', () => {
    for (const f of followsOf(files)) {
      for (const choice of choicesOf(files, f.channel)) {
        const after = moved(files, f, choice)
        const again = { ...files, [f.file]: after }
        const follows = followsOf(again)
        const now = follows.find((x) => x.index === f.index && x.channel === f.channel)
        expect(now).toMatchObject({ ...f, choice })
        expect(follows.filter((x) => x !== now)).toEqual(followsOf(files).filter((x) => x.index !== f.index || x.channel !== f.channel))
        const lines = hosts.split('\n').filter((l, i) => l !== after.split('\n')[i])
        expect(lines.length).toBeLessThanOrEqual(1)
        if (choice === f.choice) expect(after).toBe(hosts)
      }
    }
  })
  it('keeps a version a text', () => {
    const f = followsOf(files)[1]
    expect(f && moved(files, f, '1.44')).toContain('plover: "1.44" # the reef')
    expect(f && moved(files, f, 'rolling')).toContain('plover: rolling # the reef')
  })
  it('of an assignment that is not there changes nothing', () => expect(moved(files, { file: 'hosts.yaml', index: 9, to: 'x', channel: 'gannet', choice: 'open' }, 'licensed')).toBe(hosts))
})
