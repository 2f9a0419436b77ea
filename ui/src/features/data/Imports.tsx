import { useMutation } from "@tanstack/react-query";
import { type DragEvent, useRef, useState } from "react";
import type { Schemas } from "@/shared/api/client";
import { useImportChanges, useImports } from "@/shared/api/queries";
import { DASH, date, instant, number } from "@/shared/format";
import { Failed, Loading } from "@/shared/ui/States";
import { BroughtFile } from "./BroughtFile";
import { bring, filesOf } from "./bring";
import { Progress } from "./Progress";
import { useWork } from "./useWork";

/** Files are brought, looked at, checked and loaded; what was loaded is told, and the last of it undone. */
export function Imports({ zone }: { zone: string }) {
  const answer = useImports();
  const [source, setSource] = useState("");
  const list = answer.data;
  if (!list) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="what was loaded" />;
  if (list.market === "demo")
    return (
      <p className="muted">
        The demo market is made by Flinch itself. Files are loaded into a market of one's own: make one above.
      </p>
    );
  return (
    <>
      <section aria-labelledby="bring-title">
        <h2 id="bring-title">Bring files</h2>
        <Bring source={source} onSource={setSource} />
        {list.uploads.map((upload) => (
          <BroughtFile key={upload.id} upload={upload} source={source.trim()} zone={zone} />
        ))}
      </section>
      <History imports={list.imports} />
    </>
  );
}

/** Where files are dropped or chosen. */
function Bring({ source, onSource }: { source: string; onSource: (source: string) => void }) {
  const { refetch } = useImports();
  const chosen = useRef<HTMLInputElement>(null);
  const folder = useRef<HTMLInputElement>(null);
  const [over, setOver] = useState(false);
  const [told, setTold] = useState<{ name: string; share: number } | null>(null);
  const taking = useMutation({
    mutationKey: ["bring"],
    retry: false,
    mutationFn: async (files: File[]) => {
      for (const file of files) {
        setTold({ name: file.name, share: 0 });
        await bring(file, (share) => setTold({ name: file.name, share }));
      }
    },
    onSettled: async () => {
      setTold(null);
      await refetch();
    },
  });
  const take = (files: Iterable<File>) => {
    const some = [...files].filter((file) => !file.name.startsWith("."));
    if (some.length > 0) taking.mutate(some);
  };
  const drop = async (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    take(await filesOf(event.dataTransfer));
  };
  return (
    <>
      {/* biome-ignore lint/a11y/noStaticElementInteractions: files can be chosen by the buttons in it as well */}
      <div
        className={over ? "drop over" : "drop"}
        onDragOver={(event) => {
          event.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(event) => void drop(event)}
      >
        <p>
          Drop files here, or a folder of them: CSV (also gzip, zstd or zip), Parquet, XLSX (a sheet a kind), iCalendar
          for reports. Nothing is loaded before you say so.
        </p>
        <div className="fields">
          <button type="button" className="plain" disabled={taking.isPending} onClick={() => chosen.current?.click()}>
            choose files
          </button>
          <button type="button" className="plain" disabled={taking.isPending} onClick={() => folder.current?.click()}>
            choose a folder
          </button>
          <label>
            Source
            <input
              value={source}
              size={18}
              maxLength={40}
              placeholder="who they are from"
              onChange={(event) => onSource(event.target.value)}
            />
          </label>
          <span className="muted">What you say of a file is remembered for the next one of its source.</span>
        </div>
        <input
          ref={chosen}
          type="file"
          multiple
          hidden
          aria-label="Files"
          onChange={(event) => {
            take(event.target.files ?? []);
            event.target.value = "";
          }}
        />
        <input
          ref={folder}
          type="file"
          hidden
          aria-label="Folder"
          // The type of the element does not know it.
          {...{ webkitdirectory: "" }}
          onChange={(event) => {
            take(event.target.files ?? []);
            event.target.value = "";
          }}
        />
      </div>
      {told && <Progress stage={`bringing ${told.name}`} percent={100 * told.share} />}
      {taking.error && <p role="alert">{taking.error.message}</p>}
    </>
  );
}

/** What was loaded, the newest first. */
function History({ imports }: { imports: Schemas["ImportEntry"][] }) {
  const undo = useWork();
  if (imports.length === 0) return null;
  return (
    <section aria-labelledby="history-title">
      <h2 id="history-title">What was loaded</h2>
      <table className="plain-table">
        <thead>
          <tr>
            <th className="words">When</th>
            <th className="words">File</th>
            <th className="words">Kind</th>
            <th className="words">Source</th>
            <th>Rows</th>
            <th>Added</th>
            <th>Changed</th>
            <th>There already</th>
            <th>Refused</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {imports.map((one) => (
            <Entry key={one.id} one={one} busy={undo.isPending} onUndo={() => undo.mutate({ undo: one.id })} />
          ))}
        </tbody>
      </table>
      {undo.told && <Progress {...undo.told} />}
      {undo.error && <p role="alert">{undo.error.message}</p>}
    </section>
  );
}

function Entry({ one, busy, onUndo }: { one: Schemas["ImportEntry"]; busy: boolean; onUndo: () => void }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <tr className={one.state === "undone" ? "none" : undefined}>
        <td className="words">{one.ended_at ? `${instant(one.ended_at)} UTC` : DASH}</td>
        <th scope="row" className="words file">
          {one.file}
        </th>
        <td className="words">{one.kind.replaceAll("_", " ")}</td>
        <td className="words">{one.source}</td>
        <td>{number(one.rows)}</td>
        <td>{number(one.added)}</td>
        <td>{number(one.changed)}</td>
        <td>{number(one.same)}</td>
        <td>{number(one.refused)}</td>
        <td className="acts">
          {one.changed > 0 && one.state === "loaded" && (
            <button
              type="button"
              className="quiet"
              aria-expanded={open}
              aria-label={`what it changed: ${one.file}`}
              onClick={() => setOpen(!open)}
            >
              what it changed
            </button>
          )}{" "}
          {one.undoable ? (
            <button type="button" className="quiet" disabled={busy} onClick={onUndo}>
              undo
            </button>
          ) : (
            one.state !== "loaded" && <span className="muted">{one.state}</span>
          )}
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={10}>
            <Changes id={one.id} />
          </td>
        </tr>
      )}
    </>
  );
}

/** The first values that an import changed. */
function Changes({ id }: { id: number }) {
  const answer = useImportChanges(id);
  const told = answer.data;
  if (!told) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="what it changed" />;
  if (!told.kept) return <p className="muted">What was there before is kept for the last ten imports alone.</p>;
  if (told.changes.length === 0)
    return (
      <p className="muted">
        Only what is kept packed changed (chains, minutes, trades, prints), or nothing is left of it.
      </p>
    );
  return (
    <table className="plain-table narrow">
      <thead>
        <tr>
          <th className="words">Name</th>
          <th className="words">Day</th>
          <th className="words">What</th>
          <th>Before</th>
          <th>Now</th>
        </tr>
      </thead>
      <tbody>
        {told.changes.map((one) => (
          <tr key={`${one.symbol} ${one.day} ${one.what}`}>
            <th scope="row" className="words">
              {one.symbol ?? DASH}
            </th>
            <td className="words">{one.day ? date(one.day, true) : DASH}</td>
            <td className="words">{one.what}</td>
            <td>{one.before}</td>
            <td>{one.now}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
