import { compact, date } from "@/shared/format";
import { readNumber } from "@/shared/stack/state";
import { PrintWindow } from "@/shared/ui/PrintWindow";
import { Segments } from "@/shared/ui/Segments";
import { TakeAlong, type TakenAlong } from "@/shared/ui/TakeAlong";
import { POSITIONS, type Position, type Window } from "./window";

type Write = (changes: Record<string, string | null>, step?: boolean) => void;

/** Which sessions' prints are looked at, and how large a level must be. */
export function WindowTools({
  window,
  told,
  onWrite,
}: {
  window: Window;
  /** The window as it was found. */
  told: { first: string; last: string } | null;
  onWrite: Write;
}) {
  return (
    <span className="as-of">
      <PrintWindow days={window} told={told} onWrite={onWrite} />
      <label className="size">
        of{" "}
        <input
          className="edge-input"
          inputMode="decimal"
          aria-label="What a level must come to"
          title="Prints at one price are added up over the window; as 1M, 500K or 20000"
          maxLength={16}
          key={`${window.least} ${window.unit}`}
          defaultValue={compact(window.least)}
          onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
          onBlur={(event) => {
            const wanted = readNumber(event.currentTarget.value);
            if (typeof wanted !== "number") event.currentTarget.value = compact(window.least);
            else if (compact(wanted) !== compact(window.least)) onWrite({ size: String(wanted) }, true);
          }}
        />{" "}
      </label>
      <select
        aria-label="Unit of the size"
        value={window.unit}
        onChange={(event) =>
          onWrite(
            { unit: event.target.value === "$" ? null : "shares", size: event.target.value === "$" ? null : "25000" },
            true,
          )
        }
      >
        <option value="$">$ or more</option>
        <option value="shares">shares or more</option>
      </select>
    </span>
  );
}

/** Where names stand, counted; each count shows those alone. */
export function PositionSwitches({
  counts,
  chosen,
  onChoose,
}: {
  counts: Partial<Record<Position, number>>;
  chosen: Position[];
  onChoose: (positions: Position[]) => void;
}) {
  return (
    <fieldset className="position-switches">
      <legend className="visually-hidden">Where names stand against the levels</legend>
      {POSITIONS.map((position) => (
        <button
          key={position}
          type="button"
          className="quiet"
          aria-pressed={chosen.includes(position)}
          onClick={() =>
            onChoose(chosen.includes(position) ? chosen.filter((one) => one !== position) : [...chosen, position])
          }
        >
          {position} <b>{counts[position] ?? 0}</b>
        </button>
      ))}
    </fieldset>
  );
}

/** How the survivors are looked at, and what can be taken along. */
export function OffExchangeTools(
  props: TakenAlong & {
    show: "names" | "prints" | "record";
    session: string | null;
    onShow: (next: "names" | "prints" | "record") => void;
  },
) {
  return (
    <div className="results-tools">
      <div className="tool-group">
        <Segments
          legend="View"
          values={[
            { value: "names", label: "by name" },
            { value: "prints", label: `prints of ${props.session ? date(props.session) : "the session"}` },
            { value: "record", label: "record of shelves" },
          ]}
          chosen={props.show}
          onChoose={props.onShow}
        />
      </div>
      <div className="tool-group">
        <TakeAlong {...props} />
      </div>
    </div>
  );
}
