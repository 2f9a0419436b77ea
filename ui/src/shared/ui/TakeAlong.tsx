import type { FileFormat } from "@/shared/api/client";
import { TakeOut } from "@/shared/ui/TakeOut";

const MOST_KEPT = 500;

export type TakenAlong = {
  /** Names that are not in the tray yet, and all of them. */
  fresh: number;
  all: number;
  onFile: (format: FileFormat) => void;
  onCopy: () => void;
  onKeep: () => void;
};

/** Results taken along: out of Flinch, or into the tray. */
export function TakeAlong({ fresh, all, onFile, onCopy, onKeep }: TakenAlong) {
  return (
    <>
      <TakeOut copyKey="c" onFile={onFile} onCopy={onCopy} />
      {fresh > 0 && fresh <= MOST_KEPT && (
        <button type="button" className="quiet" onClick={onKeep}>
          {fresh === all ? `put all ${all} in the tray` : `put ${fresh} more in the tray`}
        </button>
      )}
    </>
  );
}
