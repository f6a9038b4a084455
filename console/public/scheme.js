// Runs before the first paint, from its own file so that script-src 'self' is enough.
(function () {
    var stored = null;
    try {
        stored = localStorage.getItem('mantine-color-scheme-value');
    } catch {
        /* storage is off */
    }
    var scheme =
        stored === 'light' || stored === 'dark'
            ? stored
            : matchMedia('(prefers-color-scheme: dark)').matches
              ? 'dark'
              : 'light';
    document.documentElement.setAttribute('data-mantine-color-scheme', scheme);
})();
