// Calendars begin their weeks as the viewer's do. Only what has a calendar loads this.
import dayjs from 'dayjs'

type Weeks = { getWeekInfo?: () => { firstDay: number }; weekInfo?: { firstDay: number } }

/** The first day of the week where a language is spoken, Sunday 0 to Saturday 6; Monday where the browser does not say. */
export function firstDay(of: string): number {
  const where = new Intl.Locale(of) as Intl.Locale & Weeks
  return ((where.getWeekInfo?.() ?? where.weekInfo)?.firstDay ?? 1) % 7
}

const english = dayjs.Ls.en
// The language that the browser goes by is always one that it can read; what navigator says need not be.
if (english) english.weekStart = firstDay(Intl.DateTimeFormat().resolvedOptions().locale) as typeof english.weekStart
