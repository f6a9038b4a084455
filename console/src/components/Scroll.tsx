import { useEffect, useRef, useState, type ReactNode, type Ref } from 'react';
import { useMergedRef } from '@mantine/hooks';

interface Props {
  as?: 'section' | 'div' | 'pre';
  className?: string;
  label?: string;
  outer?: Ref<HTMLElement>;
  children: ReactNode;
}

/** Scrolls when what is in it is too wide or too high for it, and only then the keyboard stops there: otherwise nobody without a mouse would see the rest. */
export function Scroll({ as: Box = 'section', className = '', label, outer, children }: Props) {
  const box = useRef<HTMLElement>(null);
  const ref = useMergedRef(box, outer ?? null);
  const [scrolls, setScrolls] = useState(false);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = () => {
      setScrolls(element.scrollWidth > element.clientWidth || element.scrollHeight > element.clientHeight);
    };
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    for (const child of element.children) observer.observe(child);
    return () => {
      observer.disconnect();
    };
  }, [children]);
  return (
    <Box ref={ref} className={`scroll ${className}`} aria-label={label} tabIndex={scrolls ? 0 : undefined}>
      {children}
    </Box>
  );
}
