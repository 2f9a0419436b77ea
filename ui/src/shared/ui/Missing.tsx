import { DASH } from "@/shared/format";

/** A number that cannot be computed: a dash, and why. */
export function Missing({ why }: { why: string | null | undefined }) {
  return (
    <span className="missing" title={why ?? undefined}>
      {DASH}
      {why && <span className="visually-hidden">{why}</span>}
    </span>
  );
}
