import { darkTheme, type GlobalThemeOverrides } from 'naive-ui'
import { useLocalStorage, usePreferredDark } from '@vueuse/core'
import { computed, ref, watchEffect } from 'vue'

type Name = 'light' | 'dark'

/** What somebody chose, or what the system is set to. */
export const theme = useLocalStorage<Name>('millgate.theme', usePreferredDark().value ? 'dark' : 'light')

watchEffect(() => {
  document.documentElement.dataset.theme = theme.value
})

/** A colour of the theme as it is now, for what draws by itself. */
export function colour(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()
}

export function toggleTheme() {
  theme.value = theme.value === 'light' ? 'dark' : 'light'
}

const palette = {
  light: {
    ground: '#F5F3EC',
    sheet: '#FFFFFF',
    ink: '#20292E',
    faint: '#626B6F',
    line: '#DAD7CC',
    mill: '#0B5F66',
    hover: '#0A5258',
    on: '#FFFFFF',
    bad: '#A3242B',
    ok: '#3F6F45',
    warn: '#7A6A12',
  },
  dark: {
    ground: '#14191C',
    sheet: '#1B2226',
    ink: '#DDE3E1',
    faint: '#96A1A4',
    line: '#2D373B',
    mill: '#58B5B4',
    hover: '#6DC4C3',
    on: '#10181A',
    bad: '#F0716B',
    ok: '#7DB884',
    warn: '#D2BE4E',
  },
}

export const naiveTheme = computed(() => (theme.value === 'dark' ? darkTheme : null))

export const overrides = computed<GlobalThemeOverrides>(() => {
  const p = palette[theme.value] ?? palette.light
  return {
    common: {
      primaryColor: p.mill,
      primaryColorHover: p.hover,
      primaryColorPressed: p.hover,
      primaryColorSuppl: p.mill,
      errorColor: p.bad,
      successColor: p.ok,
      warningColor: p.warn,
      bodyColor: p.ground,
      cardColor: p.sheet,
      modalColor: p.sheet,
      popoverColor: p.sheet,
      inputColor: p.sheet,
      tableColor: p.sheet,
      borderColor: p.line,
      dividerColor: p.line,
      textColorBase: p.ink,
      textColor1: p.ink,
      textColor2: p.ink,
      textColor3: p.faint,
      placeholderColor: p.faint,
      fontFamily: "'Schibsted Grotesk Variable', sans-serif",
      fontFamilyMono: "'Spline Sans Mono Variable', monospace",
      fontSize: '14px',
      fontWeightStrong: '600',
      borderRadius: '4px',
      borderRadiusSmall: '4px',
      heightMedium: '30px',
      heightSmall: '26px',
    },
    Button: {
      textColorPrimary: p.on,
      textColorHoverPrimary: p.on,
      textColorPressedPrimary: p.on,
      textColorFocusPrimary: p.on,
      border: `1px solid ${p.line}`,
      fontWeight: '550',
    },
    Input: { border: `1px solid ${p.line}`, color: p.sheet },
  }
})

/** The font of the page, for charts: they measure text themselves, and cannot measure "inherit". It
 * changes once, when the font is there, so that what was measured before is measured again. */
export const font = ref('sans-serif')
void document.fonts.ready.then(() => (font.value = getComputedStyle(document.body).fontFamily))
