import { useId } from "react";

/** A few ways to look at the same, of which one is chosen; none while something else is looked at. */
export function Segments<Value extends string>({
  legend,
  values,
  chosen,
  onChoose,
}: {
  legend: string;
  values: { value: Value; label: string }[];
  chosen: string | null;
  onChoose: (value: Value) => void;
}) {
  // A page and a dialog over it each have one.
  const name = useId();
  return (
    <fieldset className="segments">
      <legend className="visually-hidden">{legend}</legend>
      {values.map(({ value, label }) => (
        <label key={value} className={value === chosen ? "chosen" : undefined}>
          <input type="radio" name={name} checked={value === chosen} onChange={() => onChoose(value)} />
          {label}
        </label>
      ))}
    </fieldset>
  );
}
