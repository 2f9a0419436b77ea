import { number } from "@/shared/format";

/** Below rows that are not all there are: how many are, and more of them up to a bound. */
export function MoreRows({
  shown,
  total,
  step,
  most,
  onMore,
}: {
  shown: number;
  total: number;
  step: number;
  most: number;
  onMore: (rows: number) => void;
}) {
  if (shown >= total) return null;
  return (
    <p className="more-rows">
      {number(shown)} of {number(total)}.{" "}
      {shown < most ? (
        <button type="button" className="quiet" onClick={() => onMore(Math.min(most, shown + step))}>
          show more
        </button>
      ) : (
        "Tighten the rules to see the others, or take them out as a file."
      )}
    </p>
  );
}
