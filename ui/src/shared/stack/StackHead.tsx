import type { ScreenDraft } from "@/shared/api/client";
import type { Aside } from "./kept";

/** Which screen this is, whether it was changed, what can be done about that, and what was put aside for it. */
export function StackHead({
  title,
  draft,
  kept,
  opened,
  changed,
  aside,
  onScreens,
  onRevert,
  onSave,
  onSaveAs,
  onBringBack,
  onForget,
}: {
  /** What a screen without a name is called. */
  title: string;
  draft: ScreenDraft;
  /** It is one of the owner's saved screens, and can be saved in its place. */
  kept: boolean;
  /** It began with a saved screen or a starter. */
  opened: boolean;
  changed: boolean;
  aside: Aside | null;
  onScreens: () => void;
  onRevert: () => void;
  onSave: () => void;
  onSaveAs: () => void;
  onBringBack: (aside: Aside) => void;
  onForget: () => void;
}) {
  return (
    <>
      <header>
        <h1>
          <button type="button" title="Saved screens and starters (o)" onClick={onScreens}>
            {draft.name || title} <span aria-hidden="true">▾</span>
          </button>
        </h1>
        <span className="stack-state">
          {changed && opened && <b>changed</b>}
          {changed && (
            <button type="button" className="quiet" onClick={onRevert}>
              revert
            </button>
          )}
          {kept && changed && (
            <button type="button" className="quiet" onClick={onSave}>
              save
            </button>
          )}
          {(changed || opened) && (
            <button type="button" className="quiet" onClick={onSaveAs}>
              save as
            </button>
          )}
        </span>
      </header>
      {draft.description && <p className="stack-about">{draft.description}</p>}
      {aside && (
        <p className="stack-aside" role="status">
          Your changes to {aside.name} were put aside.{" "}
          <button type="button" className="quiet" onClick={() => onBringBack(aside)}>
            bring back
          </button>{" "}
          <button type="button" className="quiet" onClick={onForget}>
            forget
          </button>
        </p>
      )}
    </>
  );
}
