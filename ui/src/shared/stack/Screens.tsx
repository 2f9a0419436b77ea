import { type FormEvent, useState } from "react";
import Modal from "react-bootstrap/Modal";
import { ApiError, api, type SavedScreen, type ScreenDraft } from "@/shared/api/client";
import { useKeep, useSaveScreen, useScreens } from "@/shared/api/queries";
import { count, date } from "@/shared/format";
import { Gone, Refused } from "@/shared/ui/Kept";
import type { Things } from "./things";

const isOf = (entry: { body: ScreenDraft["body"] }, things: Things) => (entry.body.table ?? "names") === things.table;

/** Saved screens and starters: open, rename, duplicate, delete with undo. */
export function ScreensDialog({
  things,
  onOpen,
  onDelete,
  onHide,
}: {
  things: Things;
  onOpen: (id: string) => void;
  onDelete: (id: number) => void;
  onHide: () => void;
}) {
  const screens = useScreens().data;
  const [wanted, setWanted] = useState("");
  const [editing, setEditing] = useState<SavedScreen | null>(null);
  const [gone, setGone] = useState<SavedScreen | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const failed = (error: Error) => setProblem(error.message);
  const remove = useKeep(["screens"], api.deleteScreen);
  const restore = useKeep(["screens"], api.restoreScreen);
  const save = useSaveScreen();
  const low = wanted.trim().toLowerCase();
  const fits = (entry: { name: string; description?: string; tags?: string[] }) =>
    !low ||
    [entry.name, entry.description ?? "", ...(entry.tags ?? [])].some((text) => text.toLowerCase().includes(low));
  const saved = screens?.saved.filter((screen) => isOf(screen, things) && fits(screen)) ?? [];
  const starters = screens?.starters.filter((starter) => isOf(starter, things) && fits(starter)) ?? [];

  function duplicate(screen: SavedScreen) {
    const names = new Set(screens?.saved.map((s) => s.name));
    let name = `${screen.name} (copy)`.slice(0, 120);
    for (let n = 2; names.has(name); n++) name = `${screen.name.slice(0, 108)} (copy ${n})`;
    const { id: _, changed_at: __, version: ___, ...draft } = screen;
    save.mutate({ draft: { ...draft, version: null, name }, id: null }, { onError: failed });
  }

  return (
    <Modal show onHide={onHide} size="lg" animation={false} aria-labelledby="screens-title">
      <Modal.Header closeButton>
        <Modal.Title id="screens-title">Screens</Modal.Title>
      </Modal.Header>
      <Modal.Body className="screens">
        <input
          // biome-ignore lint/a11y/noAutofocus: the dialog was opened to search in it
          autoFocus
          type="search"
          placeholder="find by name, tag or word …"
          aria-label="Find a screen"
          value={wanted}
          onChange={(event) => setWanted(event.target.value)}
        />
        <Refused problem={problem} />
        <Gone
          name={gone?.name ?? null}
          onUndo={() => gone && restore.mutate(gone.id, { onSuccess: () => setGone(null), onError: failed })}
        />
        <h3>Yours</h3>
        {saved.length === 0 && (
          <p className="muted">{low ? "None fits." : "None yet. Save a screen, or copy a starter."}</p>
        )}
        <ul>
          {saved.map((screen) =>
            editing?.id === screen.id ? (
              <li key={screen.id}>
                <ScreenForm
                  draft={screen}
                  verb="keep"
                  onCancel={() => setEditing(null)}
                  onSave={(draft) =>
                    save.mutate(
                      { draft: { ...draft, body: screen.body, version: screen.version }, id: screen.id },
                      { onSuccess: () => setEditing(null), onError: failed },
                    )
                  }
                />
              </li>
            ) : (
              <li key={screen.id}>
                <button type="button" className="screen-name" onClick={() => onOpen(String(screen.id))}>
                  {screen.name}
                </button>
                <span className="muted">
                  {count(screen.body.rules?.length ?? 0, "rule")} · {date(screen.changed_at, true)}
                  {(screen.tags ?? []).map((tag) => ` · ${tag}`)}
                </span>
                <span className="screen-tools">
                  <button type="button" className="quiet" onClick={() => setEditing(screen)}>
                    rename
                  </button>
                  <button type="button" className="quiet" onClick={() => duplicate(screen)}>
                    duplicate
                  </button>
                  <button
                    type="button"
                    className="quiet"
                    onClick={() => {
                      onDelete(screen.id);
                      remove.mutate(screen, { onSuccess: () => setGone(screen), onError: failed });
                    }}
                  >
                    delete
                  </button>
                </span>
                {screen.description && <p>{screen.description}</p>}
              </li>
            ),
          )}
        </ul>
        <h3>Starters</h3>
        <ul>
          {starters.map((starter) => (
            <li key={starter.key}>
              <button type="button" className="screen-name" onClick={() => onOpen(`s-${starter.key}`)}>
                {starter.name}
              </button>
              <span className="muted">{(starter.tags ?? []).join(" · ")}</span>
              <p>{starter.description}</p>
            </li>
          ))}
        </ul>
      </Modal.Body>
    </Modal>
  );
}

/** Saving under a name; one that is taken can be replaced. */
export function SaveDialog({
  draft,
  onSaved,
  onHide,
}: {
  draft: ScreenDraft;
  onSaved: (screen: SavedScreen) => void;
  onHide: () => void;
}) {
  const [taken, setTaken] = useState<{ draft: ScreenDraft; id: number } | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const save = useSaveScreen();
  function keep(next: ScreenDraft, id: number | null) {
    setProblem(null);
    setTaken(null);
    save.mutate(
      { draft: next, id },
      {
        onSuccess: onSaved,
        onError: (error) => {
          if (error instanceof ApiError && error.problem.type === "name_taken")
            setTaken({ draft: next, id: Number(error.problem.where) });
          else setProblem(error.message);
        },
      },
    );
  }
  return (
    <Modal show onHide={onHide} animation={false} aria-labelledby="save-title">
      <Modal.Header closeButton>
        <Modal.Title id="save-title">Save this screen</Modal.Title>
      </Modal.Header>
      <Modal.Body className="screens">
        <ScreenForm
          draft={draft}
          verb="save"
          onSave={(next) => keep({ ...next, body: draft.body }, null)}
          onCancel={onHide}
        />
        {taken && (
          <p role="alert">
            <b>{taken.draft.name}</b> is there already.{" "}
            <button type="button" className="quiet" onClick={() => keep(taken.draft, taken.id)}>
              replace it
            </button>
          </p>
        )}
        <Refused problem={problem} />
      </Modal.Body>
    </Modal>
  );
}

function ScreenForm({
  draft,
  verb,
  onSave,
  onCancel,
}: {
  draft: Omit<ScreenDraft, "body">;
  verb: string;
  onSave: (draft: Omit<ScreenDraft, "body">) => void;
  onCancel: () => void;
}) {
  const [name, setName] = useState(draft.name);
  const [description, setDescription] = useState(draft.description ?? "");
  const [tags, setTags] = useState((draft.tags ?? []).join(", "));
  function submit(event: FormEvent) {
    event.preventDefault();
    if (!name.trim()) return;
    const list = [...new Set(tags.split(",").map((tag) => tag.trim().slice(0, 40)))].filter(Boolean).slice(0, 20);
    onSave({ name: name.trim(), description, tags: list, version: null });
  }
  return (
    <form className="kept-form" onSubmit={submit}>
      <label>
        Name
        <input
          // biome-ignore lint/a11y/noAutofocus: the form was opened to type in it
          autoFocus
          value={name}
          maxLength={120}
          required
          onChange={(event) => setName(event.target.value)}
        />
      </label>
      <label>
        What it is for
        <textarea
          value={description}
          maxLength={2000}
          rows={3}
          onChange={(event) => setDescription(event.target.value)}
        />
      </label>
      <label>
        Tags, separated by commas
        <input value={tags} maxLength={400} onChange={(event) => setTags(event.target.value)} />
      </label>
      <p>
        <button type="submit" className="plain">
          {verb}
        </button>
        <button type="button" className="quiet" onClick={onCancel}>
          leave it
        </button>
      </p>
    </form>
  );
}
