import { useEffect } from 'react';
import { useNavigate } from 'react-router';

/** Keys that work everywhere: `/` to the filter, `g` then `o` or `n` opens a page. */
export function useShortcuts() {
  const navigate = useNavigate();
  useEffect(() => {
    let went = 0;
    const onKey = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (event.ctrlKey || event.metaKey || event.altKey || target.closest?.('input, textarea, [contenteditable]')) return;
      const isSecond = performance.now() - went < 1_500;
      went = 0;
      if (event.key === '/') {
        const filter = document.querySelector<HTMLElement>('[data-filter] input');
        if (filter) {
          event.preventDefault();
          filter.focus();
        }
      } else if (event.key === 'g' && !isSecond) {
        went = performance.now();
      } else if (isSecond && event.key === 'o') {
        void navigate('/');
      } else if (isSecond && event.key === 'n') {
        void navigate('/nodes');
      }
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, [navigate]);
}
