import { useEffect, useRef, type CSSProperties, type ReactNode } from "react";

/** A panel on the drawing, which scrolls so far that all of it can be seen, also once more fields are shown in it. */
export function InSight({ children, ...rest }: { className: string; style: CSSProperties; children: ReactNode }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const node = place.current!;
    const observer = new ResizeObserver(() => node.scrollIntoView({ block: "nearest", inline: "nearest" }));
    observer.observe(node);
    return () => observer.disconnect();
  }, []);
  return (
    <div ref={place} {...rest}>
      {children}
    </div>
  );
}
