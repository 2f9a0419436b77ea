import type { ReactNode } from "react";

/** A part of a page that scrolls by itself: the keyboard reaches it, and a screen reader has a name for it. */
export function Scrolling({
  label,
  className = "figure-table",
  children,
}: {
  label: string;
  className?: string;
  children: ReactNode;
}) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: without it the keyboard could not scroll what has no control inside
    <section className={className} aria-label={label} tabIndex={0}>
      {children}
    </section>
  );
}
