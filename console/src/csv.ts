// Lists that are taken along as a file which spreadsheets read.

// A spreadsheet must not take a name for a formula.
const cell = (v: unknown) => `"${String(v ?? '').replace(/^([=+\-@\t])/, "'$1").replaceAll('"', '""')}"`

/** The text of a list: its columns, and a line for each row. */
export function csv<K extends string>(columns: readonly K[], rows: readonly Partial<Record<K, unknown>>[]): string {
  return [columns.join(','), ...rows.map((r) => columns.map((k) => cell(r[k])).join(','))].join('\r\n') + '\r\n'
}

/** Every row of a list that is asked for page by page. */
export async function every<T>(page: (n: number) => Promise<{ items: T[]; total: number }>): Promise<T[]> {
  const all: T[] = []
  for (let n = 1; ; n++) {
    const got = await page(n)
    all.push(...got.items)
    if (all.length >= got.total || got.items.length === 0) return all
  }
}

/** Has the browser keep a list under a name. */
export function keep(name: string, text: string) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type: 'text/csv' }))
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
