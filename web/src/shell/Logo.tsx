/** A wire that finds its way. */
export function Logo({ size = 24 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 32 32" aria-hidden="true">
      <path
        d="M3 22c6.5 0 6-13 13-13s6.5 13 13 13"
        fill="none"
        stroke="var(--logo, var(--copper))"
        strokeWidth="3.4"
        strokeLinecap="round"
      />
      <circle cx="3.6" cy="22" r="2.6" fill="var(--logo, var(--copper))" />
      <circle cx="28.4" cy="22" r="2.6" fill="var(--logo, var(--copper))" />
    </svg>
  );
}
