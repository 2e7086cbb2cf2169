// The words of Element Plus's parts, in the console's own, and the viewer's week in its calendars.
import en from 'element-plus/es/locale/lang/en'

const { el } = en
export const language = {
  ...en,
  el: {
    ...el,
    datepicker: { ...el.datepicker, now: 'now', cancel: 'Not now', confirm: 'That one' },
    select: { ...el.select, noMatch: 'Nothing matches', noData: 'There is none to choose' },
    table: { ...el.table, emptyText: 'Nothing here' },
    dialog: { ...el.dialog, close: 'Leave it' },
    drawer: { ...el.drawer, close: 'Close' },
  },
}

type Weeks = { getWeekInfo?: () => { firstDay: number }; weekInfo?: { firstDay: number } }

/** The first day of the week where a language is spoken, Sunday 0 to Saturday 6; Monday where the browser does not say. */
export function firstDay(of: string): number {
  const where = new Intl.Locale(of) as Intl.Locale & Weeks
  return ((where.getWeekInfo?.() ?? where.weekInfo)?.firstDay ?? 1) % 7
}
