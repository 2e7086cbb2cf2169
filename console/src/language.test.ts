import { describe, expect, it } from 'vitest'
import en from 'element-plus/es/locale/lang/en'
import { language } from './language'
import { firstDay } from './weeks'

describe('the first day of the week', () => {
  it.each([['en-US', 0], ['en-GB', 1], ['de-AT', 1], ['ar-EG', 6]])('in %s', (of, day) => expect(firstDay(of)).toBe(day))
})

// Whatever Element Plus says, it has a word for.
const words = (of: object, at = ''): string[] => Object.entries(of).flatMap(([k, v]) => (typeof v === 'object' ? words(v as object, `${at}${k}.`) : [`${at}${k}`]))
it('takes no word away', () => expect(words(language)).toEqual(words(en)))
