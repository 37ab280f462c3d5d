// Before the first paint, so that a dark console never flashes white.
try {
  var stored = localStorage.getItem('theme')
  if (stored === 'light' || stored === 'dark') document.documentElement.dataset.theme = stored
} catch (_) {
  // No storage: the system's theme it is.
}
