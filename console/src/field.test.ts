import { expect, test } from 'vitest'
import { blocks } from './field'

test('the cells of a run are covered once each, by three blocks at most', () => {
  for (const perRow of [1, 2, 3, 7, 10]) {
    for (let from = 0; from < 25; from++) {
      for (let to = from; to < 45; to++) {
        const cells: number[] = []
        const list = blocks(from, to, perRow)
        for (const b of list) {
          for (let r = 0; r < b.rows; r++) for (let c = 0; c < b.columns; c++) cells.push((b.row + r) * perRow + b.column + c)
        }
        expect(list.length).toBeLessThanOrEqual(3)
        expect(list.every((b) => b.column + b.columns <= perRow)).toBe(true)
        expect(cells.sort((a, b) => a - b)).toEqual(Array.from({ length: to - from }, (_, i) => from + i))
      }
    }
  }
})
