// Calendars begin their weeks as the viewer's do. Only what has a calendar loads this.
import dayjs from 'dayjs'
import { firstDay } from './language'

const english = dayjs.Ls.en
if (english) english.weekStart = firstDay(navigator.language) as typeof english.weekStart
