import type { ReactNode } from "react";

/** The list under a field that completes what is typed. The field keeps the focus and handles the keys. */
export function Options<T>({
  id,
  className,
  label,
  items,
  chosen,
  keyOf,
  onChoose,
  onPick,
  children,
  none,
}: {
  id: string;
  className: string;
  label: string;
  items: T[];
  chosen: number;
  keyOf: (item: T) => string;
  onChoose: (place: number) => void;
  onPick: (item: T) => void;
  children: (item: T) => ReactNode;
  none?: ReactNode;
}) {
  return (
    <div className={className} id={id} role="listbox" aria-label={label}>
      {items.map((item, i) => (
        // biome-ignore lint/a11y/useKeyWithClickEvents: the field handles the keys of its list
        <div
          key={keyOf(item)}
          id={`${id}-${i}`}
          role="option"
          tabIndex={-1}
          aria-selected={i === chosen}
          className={i === chosen ? "chosen" : undefined}
          onMouseDown={(event) => event.preventDefault()}
          onMouseEnter={() => onChoose(i)}
          onClick={() => onPick(item)}
        >
          {children(item)}
        </div>
      ))}
      {items.length === 0 && none}
    </div>
  );
}
