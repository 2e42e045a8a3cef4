import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'
import { createVuetify } from 'vuetify'

const shared = { accent: '#d99a2b', success: '#4f8a5b', error: '#b3405b', warning: '#d99a2b', info: '#5b7fa6' }

// On dark paper the same hues need more light to be read.
const lighter = { success: '#8cc79a', error: '#e58ba1', info: '#9dbbdc' }

export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: {
    defaultTheme: 'system',
    themes: {
      light: {
        dark: false,
        colors: { ...shared, primary: '#22343c', background: '#faf8f3', surface: '#fffdf8', 'on-surface': '#22343c' },
      },
      dark: {
        dark: true,
        colors: { ...shared, ...lighter, primary: '#c9d6dc', background: '#161f24', surface: '#1d292f', 'on-surface': '#e8e4da' },
      },
    },
  },
  defaults: {
    VCard: { flat: true, border: true, rounded: 'lg' },
    VTable: { density: 'compact' },
    VBtn: { variant: 'tonal', rounded: 'lg', class: 'text-none' },
    VTextField: { variant: 'outlined', density: 'comfortable' },
    VSelect: { variant: 'outlined', density: 'comfortable' },
    VCombobox: { variant: 'outlined', density: 'comfortable' },
    VTextarea: { variant: 'outlined', density: 'comfortable' },
    VAlert: { variant: 'tonal', density: 'compact', rounded: 'lg' },
  },
})
