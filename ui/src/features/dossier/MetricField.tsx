import { useState } from "react";
import { useMetrics } from "@/shared/api/queries";

/** A field for a metric or expression, completed from the catalogue; it is set when it is picked, entered or left. */
export function MetricField({
  id,
  label,
  placeholder,
  value,
  most,
  onSet,
}: {
  id: string;
  label: string;
  placeholder?: string;
  value: string;
  most: number;
  onSet: (text: string) => void;
}) {
  const metrics = useMetrics();
  const [text, setText] = useState(value);
  const [shown, setShown] = useState(value);
  if (shown !== value) {
    setShown(value);
    setText(value);
  }
  const apply = () => text.trim() !== value && onSet(text.trim());
  return (
    <>
      <input
        className="over-text"
        list={id}
        aria-label={label}
        placeholder={placeholder}
        value={text}
        maxLength={most}
        spellCheck={false}
        onChange={(event) => {
          setText(event.target.value);
          // A metric picked from the list is shown at once.
          if (metrics.some((m) => m.key === event.target.value && m.kind !== "text")) onSet(event.target.value);
        }}
        onKeyDown={(event) => event.key === "Enter" && apply()}
        onBlur={apply}
      />
      <datalist id={id}>
        {metrics
          .filter((m) => m.kind !== "text")
          .map((m) => (
            <option key={m.key} value={m.key}>
              {m.label}
            </option>
          ))}
      </datalist>
    </>
  );
}
