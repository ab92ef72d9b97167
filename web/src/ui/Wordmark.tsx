/** The name, with the two strands before it: one there, one back. */
export function Wordmark() {
  return (
    <span className="font-semibold tracking-tight whitespace-nowrap">
      <svg
        width="1.05em"
        height="0.8em"
        viewBox="0 0 17 13"
        fill="none"
        strokeWidth="2"
        className="inline mr-[0.3em] align-baseline"
        aria-hidden="true"
      >
        <path d="M1 4H15M12 1l3 3-3 3" stroke="var(--forward)" />
        <path d="M16 10H2M5 7l-3 3 3 3" stroke="var(--return)" />
      </svg>
      Routrel
    </span>
  );
}
