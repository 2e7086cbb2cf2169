// Light and dark: what the system says, until somebody chooses.
import { useDark, useToggle } from '@vueuse/core'

export const dark = useDark({ storageKey: 'lantern-theme', valueLight: '', disableTransition: false })
const toggle = useToggle(dark)

export const switchTheme = () => void toggle()
