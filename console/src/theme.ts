/** The console's own theme: stone-grey ground, one moss-green accent, amber for what was kept back, red for failure. */
import { definePreset } from '@primeuix/themes'
import Base from '@primeuix/themes/nora'

const moss = {
  50: '#f4f7ef', 100: '#e5ecd9', 200: '#cbd9b5', 300: '#abc08b', 400: '#8ba566', 500: '#6f8a4b',
  600: '#5a7042', 700: '#475835', 800: '#39462d', 900: '#313c28', 950: '#192013',
}
const stone = {
  0: '#ffffff', 50: '#f7f6f4', 100: '#efedea', 200: '#e0ddd8', 300: '#c9c5be', 400: '#a39e95', 500: '#7d786f',
  600: '#615d56', 700: '#4b4843', 800: '#33312d', 900: '#232220', 950: '#171614',
}

export const Moss = definePreset(Base, {
  semantic: {
    primary: moss,
    colorScheme: {
      light: { surface: stone, primary: { color: moss[600], contrastColor: '#ffffff', hoverColor: moss[700], activeColor: moss[800] } },
      dark: { surface: stone, primary: { color: moss[400], contrastColor: stone[950], hoverColor: moss[300], activeColor: moss[200] } },
    },
  },
})

const KEY = 'cobble-scheme'

export function useSavedScheme(): void {
  const saved = localStorage.getItem(KEY)
  const dark = saved ? saved === 'dark' : window.matchMedia('(prefers-color-scheme: dark)').matches
  document.documentElement.classList.toggle('dark', dark)
}

export function switchScheme(): void {
  const dark = document.documentElement.classList.toggle('dark')
  localStorage.setItem(KEY, dark ? 'dark' : 'light')
}
