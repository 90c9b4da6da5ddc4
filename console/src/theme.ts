// Light or dark: as the system says, until somebody chooses.
const key = 'yfence-theme'
const system = window.matchMedia('(prefers-color-scheme: dark)')

export type Theme = 'light' | 'dark'

export function theme(): Theme {
  const chosen = localStorage.getItem(key)
  if (chosen === 'light' || chosen === 'dark') return chosen
  return system.matches ? 'dark' : 'light'
}

export function applyTheme(chosen?: Theme) {
  if (chosen) localStorage.setItem(key, chosen)
  document.documentElement.dataset.theme = theme()
}

system.addEventListener('change', () => {
  applyTheme()
})
