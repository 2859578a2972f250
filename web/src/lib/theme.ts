/** Light or dark, as chosen or as the system says. */
export function applyTheme(theme: string | null): 'light' | 'dark' {
  const system = matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light';
  const chosen = theme === 'light' || theme === 'dark' ? theme : system;
  document.documentElement.dataset.theme = chosen;
  return chosen;
}

/** Reads a colour of the theme in force. */
export function colour(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
}
