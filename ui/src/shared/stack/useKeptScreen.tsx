import { useState } from "react";
import { useSaveScreen } from "@/shared/api/queries";
import { useNavigate } from "@/shared/route";
import { later } from "@/shared/ui/later";
import type { Base } from "./base";
import { useAside } from "./kept";
import { StackHead } from "./StackHead";
import { OWN_PARAMS, type Screen, toBody, writeScreen } from "./state";
import type { Things } from "./things";

const SaveDialog = later(() => import("./Screens").then((part) => part.SaveDialog));
const ScreensDialog = later(() => import("./Screens").then((part) => part.ScreensDialog));

/** What can be done with a screen as a thing that is kept: open another one, save, revert, bring back what was put aside. */
export function useKeptScreen({
  things,
  base,
  first,
  screen,
  changed,
  link,
  write,
  onSaid,
}: {
  things: Things;
  base: Base;
  /** What the page begins with. */
  first: Screen;
  screen: Screen;
  changed: boolean;
  /** The page's address. */
  link: string;
  write: (changes: Record<string, string | null>, step?: boolean) => void;
  onSaid: (words: string) => void;
}) {
  const navigate = useNavigate();
  const [dialog, setDialog] = useState<"screens" | "save" | null>(null);
  const [aside, setAside] = useAside();
  const save = useSaveScreen();
  const mine = aside?.address.startsWith(`${things.page}?`) ? aside : null;
  function saveNow() {
    if (!base.saved) return setDialog("save");
    const { name, description, tags, id, version } = base.saved;
    save.mutate(
      { draft: { name, description, tags, version, body: toBody(screen) }, id },
      {
        onSuccess: () => {
          write({ ...OWN_PARAMS, screen: String(id) });
          onSaid("saved");
        },
        onError: (error) => onSaid(error.message),
      },
    );
  }
  function open(key: string | null) {
    if (changed && key !== base.key) setAside({ name: base.draft.name || "the first screen", address: link });
    setDialog(null);
    write({ ...OWN_PARAMS, at: null, vs: null, quarter: null, screen: key }, true);
  }
  return {
    open,
    choose: () => setDialog("screens"),
    head: (
      <StackHead
        title={things.title}
        draft={base.draft}
        kept={base.saved !== null}
        opened={base.key !== null}
        changed={changed}
        aside={mine}
        onScreens={() => setDialog("screens")}
        onRevert={() => write({ ...OWN_PARAMS, screen: base.key }, true)}
        onSave={saveNow}
        onSaveAs={() => setDialog("save")}
        onBringBack={({ address }) => {
          setAside(null);
          navigate(address);
        }}
        onForget={() => setAside(null)}
      />
    ),
    dialogs: (
      <>
        {dialog === "screens" && (
          <ScreensDialog
            things={things}
            onOpen={open}
            onDelete={(id) => {
              // The one that is open goes on as what it holds, without its name.
              if (base.saved?.id === id) write({ ...OWN_PARAMS, ...writeScreen(screen, first) });
            }}
            onHide={() => setDialog(null)}
          />
        )}
        {dialog === "save" && (
          <SaveDialog
            draft={{ ...base.draft, name: base.draft.name, body: toBody(screen) }}
            onSaved={(saved) => {
              setDialog(null);
              onSaid("saved");
              write({ ...OWN_PARAMS, screen: String(saved.id) }, true);
            }}
            onHide={() => setDialog(null)}
          />
        )}
      </>
    ),
  };
}
