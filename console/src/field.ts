/** A block of cells of a grid: where it begins, and how many columns and rows it has. */
export type Block = { column: number; row: number; columns: number; rows: number }

/**
 * The cells of a grid from the number `from` up to but not including `to`, counted row by row, as at
 * most three blocks: the rest of a row, whole rows, the beginning of one.
 */
export function blocks(from: number, to: number, perRow: number): Block[] {
  const out: Block[] = []
  while (from < to) {
    const column = from % perRow
    const left = to - from
    const rows = column ? 1 : Math.max(1, Math.floor(left / perRow))
    const columns = Math.min(perRow - column, left)
    out.push({ column, row: Math.floor(from / perRow), columns, rows })
    from += columns * rows
  }
  return out
}
