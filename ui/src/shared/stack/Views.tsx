import { Segments } from "@/shared/ui/Segments";
import type { View } from "./state";

/** Ways to look at what survives, one of which is chosen, and the evidence for it. */
export function Views<Known extends View>({
  views,
  view,
  evidence,
  onView,
  onEvidence,
  children,
}: {
  views: { value: Known; label: string }[];
  view: View;
  evidence: boolean;
  onView: (view: Known) => void;
  onEvidence: () => void;
  children?: React.ReactNode;
}) {
  return (
    <>
      <div className="tool-group">
        <Segments legend="View" values={views} chosen={evidence ? null : view} onChoose={onView} />
      </div>
      <div className="tool-group">
        <button type="button" className="quiet" aria-pressed={evidence} onClick={onEvidence}>
          evidence
        </button>
        {children}
      </div>
    </>
  );
}
