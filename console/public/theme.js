// Before anything is drawn: the theme that this browser was told to keep.
try {
  const theme = localStorage.getItem('heron-theme')
  if (theme === 'light' || theme === 'dark') document.documentElement.dataset.theme = theme
} catch {
  // Without storage the system's theme is taken.
}
