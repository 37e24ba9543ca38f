import type { Mark } from "../model/verdicts";

/** A verdict's shape in its colour. The word stands beside it, or in `title` where there is no room. */
export function VerdictMark({ mark, size = 11, title }: { mark: Mark; size?: number; title?: string }) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 12 12"
      role={title ? "img" : undefined}
      aria-label={title}
      aria-hidden={title ? undefined : true}
      style={{ flex: "none", display: "block" }}
    >
      <Shape mark={mark} />
    </svg>
  );
}

export function Shape({ mark }: { mark: Mark }) {
  const color = `var(--v-${mark})`;
  switch (mark) {
    case "home":
      return <circle cx="6" cy="6" r="4.6" fill={color} />;
    case "unproven":
      return <circle cx="6" cy="6" r="4.4" fill="none" stroke={color} strokeWidth="1.8" strokeDasharray="2.1 1.9" />;
    case "wavering":
      return (
        <>
          <circle cx="6" cy="6" r="4.5" fill="none" stroke={color} strokeWidth="1.6" />
          <path d="M6 1.5a4.5 4.5 0 0 0 0 9z" fill={color} />
        </>
      );
    case "stranded":
      return <path d="M6 1.2 11 10.6H1z" fill={color} />;
    case "astray":
      return <path d="M6 .8 11.2 6 6 11.2.8 6z" fill={color} />;
    case "exposed":
      return <rect x="1.6" y="1.6" width="8.8" height="8.8" fill={color} />;
    case "risk":
      return <path d="M6 1.1 10.4 3.6v4.8L6 10.9 1.6 8.4V3.6z" fill="none" stroke={color} strokeWidth="1.7" />;
    case "untidy":
      return <path d="M1.5 4h9M1.5 8h6" stroke={color} strokeWidth="1.8" />;
    case "idle":
      return <circle cx="6" cy="6" r="4.4" fill="none" stroke={color} strokeWidth="1.6" />;
  }
}
