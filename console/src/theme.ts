// Light and dark: what the system says, until somebody chooses.
import { ref, watchEffect } from 'vue'

const system = window.matchMedia('(prefers-color-scheme: dark)')
const chosen = localStorage.getItem('lantern-theme')

export const dark = ref(chosen ? chosen === 'dark' : system.matches)

system.addEventListener('change', (e) => {
  if (!localStorage.getItem('lantern-theme')) dark.value = e.matches
})

watchEffect(() => document.documentElement.classList.toggle('dark', dark.value))

export function switchTheme() {
  dark.value = !dark.value
  localStorage.setItem('lantern-theme', dark.value ? 'dark' : 'light')
}
