/** The mark of the application: two arches and the bite between them. */
export function Mark({ size }: { size: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" fill="none" aria-hidden="true">
      <title>Bite Bench</title>
      <path d="M4.5 10a7.5 7.5 0 0 1 15 0" stroke="var(--color-primary)" strokeWidth="2.6" strokeLinecap="round" />
      <path d="M4.5 14a7.5 7.5 0 0 0 15 0" stroke="var(--color-base-content)" strokeWidth="2.6" strokeLinecap="round" />
      <path d="M8 12h8" stroke="var(--color-accent)" strokeWidth="2.2" strokeLinecap="round" />
    </svg>
  );
}
