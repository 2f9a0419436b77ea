import type { FileFormat } from "@/shared/api/client";
import type { View } from "@/shared/stack/state";
import { TakeOut } from "@/shared/ui/TakeOut";

const VIEWS: { value: View; label: string }[] = [
  { value: "table", label: "table" },
  { value: "gallery", label: "gallery" },
  { value: "map", label: "map" },
];
const MOST_KEPT = 500;

type Props = {
  view: View;
  evidence: boolean;
  comparing: boolean;
  /** Survivors that are not in the tray yet, and all of them. */
  fresh: number;
  all: number;
  onView: (view: View) => void;
  onEvidence: () => void;
  onCompare: () => void;
  onColumns: () => void;
  onFile: (format: FileFormat) => void;
  onCopy: () => void;
  onKeep: () => void;
};

/** What can be done with the survivors: look at them otherwise, ask more of them, take them along. */
export function ResultsTools(props: Props) {
  const { view, evidence, fresh, all } = props;
  return (
    <div className="results-tools">
      <div className="tool-group">
        <fieldset className="segments">
          <legend className="visually-hidden">View</legend>
          {VIEWS.map(({ value, label }) => (
            <label key={value} className={value === view && !evidence ? "chosen" : undefined}>
              <input
                type="radio"
                name="view"
                checked={value === view && !evidence}
                onChange={() => props.onView(value)}
              />
              {label}
            </label>
          ))}
        </fieldset>
      </div>
      <div className="tool-group">
        <button type="button" className="quiet" aria-pressed={evidence} onClick={props.onEvidence}>
          evidence
        </button>
        <button type="button" className="quiet" aria-pressed={props.comparing} onClick={props.onCompare}>
          what changed
        </button>
      </div>
      <div className="tool-group">
        {view === "table" && (
          <button type="button" className="quiet" onClick={props.onColumns}>
            columns
          </button>
        )}
        <TakeOut copyKey="c" onFile={props.onFile} onCopy={props.onCopy} />
        {fresh > 0 && fresh <= MOST_KEPT && (
          <button type="button" className="quiet" onClick={props.onKeep}>
            {fresh === all ? `put all ${all} in the tray` : `put ${fresh} more in the tray`}
          </button>
        )}
      </div>
    </div>
  );
}
