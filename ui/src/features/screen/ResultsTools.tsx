import { Link } from "@/shared/route";
import type { View } from "@/shared/stack/state";
import { Views } from "@/shared/stack/Views";
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
  /** Where the structures of all survivors are; none for a stack that is not kept. */
  structures: string | null;
  /** Where its survivors are waited for; none for a stack that is not kept. */
  waits: string | null;
  onView: (view: View) => void;
  onEvidence: () => void;
  onCompare: () => void;
  onColumns: () => void;
};

/** What can be done with the survivors: look at them otherwise, ask more of them, take them along. */
export function ResultsTools(props: Props) {
  const { view } = props;
  return (
    <div className="results-tools">
      <Views views={VIEWS} view={view} evidence={props.evidence} onView={props.onView} onEvidence={props.onEvidence}>
        <button type="button" className="quiet" aria-pressed={props.comparing} onClick={props.onCompare}>
          what changed
        </button>
      </Views>
      <div className="tool-group">
        {view === "table" && (
          <button type="button" className="quiet" onClick={props.onColumns}>
            columns
          </button>
        )}
        {props.structures && (
          <Link to={props.structures} className="quiet" title="Structures of all these names">
            structures
          </Link>
        )}
        {props.waits && (
          <Link to={props.waits} className="quiet" title="Be told when one of these names does something">
            wait for
          </Link>
        )}
        <TakeAlong {...props} />
      </div>
    </div>
  );
}
