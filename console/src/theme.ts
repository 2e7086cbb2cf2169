// Light and dark: what the system says, until somebody chooses.
import { useColorMode } from '@vueuse/core'
import { computed } from 'vue'

export type Theme = 'auto' | 'light' | 'dark'

const mode = useColorMode({ storageKey: 'lantern-theme', modes: { light: '' }, disableTransition: false })

/** What somebody chose; auto where nobody did. */
export const chosen = computed(() => mode.store.value as Theme)
export const dark = computed(() => mode.state.value === 'dark')
export const choose = (t: Theme) => (mode.store.value = t)
export const switchTheme = () => choose(dark.value ? 'light' : 'dark')
