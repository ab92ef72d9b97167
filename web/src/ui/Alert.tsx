/** What went wrong with what was just done. */
export function Alert({ children }: { children: string }) {
  return (
    <p role="alert" className="text-stop">
      {children}
    </p>
  );
}
