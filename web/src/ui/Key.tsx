/** A key of the keyboard, shown beside the action it does. */
export function Key({ children }: { children: string }) {
  return (
    <kbd className="mono text-[11px] leading-none px-1 py-0.5 border border-hair rounded-sm text-faint bg-sheet">
      {children}
    </kbd>
  );
}
