import type { View } from "@/shared/stack/state";
import { TakeAlong, type TakenAlong } from "@/shared/ui/TakeAlong";

const VIEWS: { value: View; label: string }[] = [
  { value: "table", label: "table" },
  { value: "gallery", label: "gallery" },
  { value: "map", label: "map" },
];

type Props = TakenAlong & {
  view: View;
  evidence: boolean;
  comparing: boolean;
  onView: (view: View) => void;
  onEvidence: () => void;
  onCompare: () => void;
  onColumns: () => void;
};

/** What can be done with the survivors: look at them otherwise, ask more of them, take them along. */
export function ResultsTools(props: Props) {
  const { view, evidence } = props;
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
        <TakeAlong {...props} />
      </div>
    </div>
  );
}
