// Before the first paint, so that a dark console never flashes white.
try {
  var kept = localStorage.getItem('theme')
  if (kept === 'light' || kept === 'dark') document.documentElement.dataset.theme = kept
} catch (_) {
  // No storage: the system's theme it is.
}
