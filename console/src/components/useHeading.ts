import { useEffect, useRef } from 'react';

/**
 * The window is called what the page's heading says, as it says it; who goes to another page begins there: a screen
 * reader says the heading, the next Tab leads into the page.
 */
export function useHeading(pathname: string): void {
  const shown = useRef<string | null>(null);
  useEffect(() => {
    const main = document.querySelector('main');
    if (!main) return;
    // The page that is opened first leaves the focus to the browser.
    let arrived = shown.current === null;
    const look = () => {
      const heading = main.querySelector('h2');
      if (!heading?.textContent) return;
      document.title = `${heading.textContent} · Orderly Beacon`;
      if (arrived) return;
      arrived = true;
      if (main.contains(document.activeElement)) return;
      heading.tabIndex = -1;
      heading.focus({ preventScroll: true });
    };
    shown.current = pathname;
    look();
    const watch = new MutationObserver(look);
    watch.observe(main, { childList: true, subtree: true, characterData: true });
    return () => {
      watch.disconnect();
    };
  }, [pathname]);
}
