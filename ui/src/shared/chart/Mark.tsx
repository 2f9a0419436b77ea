/** The mark: a hollow bracket, what options price, with a solid bar, what the stock did. */
export function Mark({ className }: { className?: string }) {
  return (
    <svg className={className} viewBox="0 0 32 32" aria-hidden="true">
      <path d="M10 5H5v22h5M22 5h5v22h-5" fill="none" stroke="currentColor" strokeWidth="2.4" />
      <rect x="11.5" y="10" width="6.5" height="12" className="mark-bar" />
    </svg>
  );
}
