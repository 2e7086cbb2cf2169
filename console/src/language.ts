// The words of Element Plus's parts, in the console's own.
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
