import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import Modal from "react-bootstrap/Modal";
import { ApiError, api, calendarAddress, download, type Schemas, type TrayOp } from "@/shared/api/client";
import {
  useBaskets,
  useChangeTray,
  useKeep,
  useMarket,
  useNames,
  useOfVersion,
  useSaveBasket,
  useScreens,
  useTray,
} from "@/shared/api/queries";
import { count, number } from "@/shared/format";
import { Gone, Refused } from "@/shared/ui/Kept";
import { findNames } from "./find";
import { useResults } from "./results";

const READ_AGAIN = ["baskets", "source", "screen"];
type Part = "both" | "left" | "right" | "either";
const PARTS: { value: Part; sign: string; label: (a: string, b: string) => string }[] = [
  { value: "both", sign: "∩", label: () => "in both" },
  { value: "left", sign: "−", label: (a) => `only in ${a}` },
  { value: "right", sign: "−", label: (_, b) => `only in ${b}` },
  { value: "either", sign: "∪", label: () => "in either" },
];

/** Two lists of names against each other, and what to do with a part of them. Also where baskets are made and changed. */
export function Lists({ onHide }: { onHide: () => void }) {
  const [left, setLeft] = useState("tray");
  const [right, setRight] = useState("pasted");
  const [pasted, setPasted] = useState("");
  const [part, setPart] = useState<Part>("both");
  const [said, setSaid] = useState<string | null>(null);
  const read = useQuery({
    queryKey: ["pasted", pasted],
    queryFn: ({ signal }) => api.readPasted(pasted, signal),
    enabled: pasted.trim() !== "",
  });
  const found = pasted.trim() ? read.data : undefined;
  const a = useSource(left, found);
  const b = useSource(right, found);
  const labels = useLabels();
  const baskets = useBaskets().data;
  const change = useChangeTray();

  const chosen = useMemo(() => {
    const inA = new Set(a);
    const inB = new Set(b);
    switch (part) {
      case "both":
        return a.filter((symbol) => inB.has(symbol));
      case "left":
        return a.filter((symbol) => !inB.has(symbol));
      case "right":
        return b.filter((symbol) => !inA.has(symbol));
      case "either":
        return [...new Set([...a, ...b])];
    }
  }, [a, b, part]);
  const sizes = useMemo(() => {
    const inB = new Set(b);
    const both = a.filter((symbol) => inB.has(symbol)).length;
    return { both, left: a.length - both, right: b.length - both, either: a.length + b.length - both };
  }, [a, b]);
  const words = `${PARTS.find((p) => p.value === part)?.label(labels(left), labels(right))}: ${labels(left)} and ${labels(right)}`;

  const trayVersion = useTray().data?.version ?? null;
  function toTray(op: TrayOp, what: string) {
    const why = { page: "Lists", words: words.slice(0, 600), link: "", values: {} };
    change.mutate(
      { kind: "change", change: { op, symbols: chosen, why, values: {}, version: trayVersion } },
      { onSuccess: () => setSaid(what), onError: (error) => setSaid(error.message) },
    );
  }
  return (
    <Modal show onHide={onHide} size="lg" animation={false} aria-labelledby="lists-title">
      <Modal.Header closeButton>
        <Modal.Title id="lists-title">Lists</Modal.Title>
      </Modal.Header>
      <Modal.Body className="lists">
        <div className="lists-pair">
          <Side label="One list" value={left} size={a.length} onChange={setLeft} />
          <Side label="Another list" value={right} size={b.length} onChange={setRight} />
        </div>
        {(left === "pasted" || right === "pasted") && (
          <div className="paste">
            <textarea
              rows={3}
              value={pasted}
              aria-label="Paste symbols"
              placeholder="Paste symbols here: commas, spaces, lines, or a column of a sheet"
              spellCheck={false}
              maxLength={100_000}
              onChange={(event) => setPasted(event.target.value)}
            />
            {found && (
              <p className="small">
                {count(found.symbols.length, "symbol")} found
                {found.unknown.length > 0 && (
                  <>
                    {" · not listed: "}
                    {found.unknown.map((word) => (
                      <span key={word.text} className="unknown">
                        <b>{word.text}</b>
                        {word.nearest.map((symbol) => (
                          <button
                            key={symbol}
                            type="button"
                            className="quiet"
                            title={`Take ${symbol} instead`}
                            onClick={() => setPasted(pasted.replace(new RegExp(escaped(word.text), "i"), symbol))}
                          >
                            {symbol}
                          </button>
                        ))}
                      </span>
                    ))}
                  </>
                )}
              </p>
            )}
          </div>
        )}
        <fieldset className="segments parts">
          <legend className="visually-hidden">Which part</legend>
          {PARTS.map(({ value, sign, label }) => (
            <label key={value} className={value === part ? "chosen" : undefined}>
              <input type="radio" name="part" checked={value === part} onChange={() => setPart(value)} />
              {sign} {label(labels(left), labels(right))} <b>{number(sizes[value])}</b>
            </label>
          ))}
        </fieldset>
        <p className="names">
          {chosen.slice(0, 300).join(", ") || <span className="muted">Nobody.</span>}
          {chosen.length > 300 && ` … and ${chosen.length - 300} more`}
        </p>
        <div className="lists-tools">
          <b>With these {number(chosen.length)}:</b>
          <button type="button" className="quiet" onClick={() => toTray("replace", "The tray is these names now.")}>
            make them the tray
          </button>
          <button
            type="button"
            className="quiet"
            disabled={!chosen.length}
            onClick={() => toTray("add", "Added to the tray.")}
          >
            add to the tray
          </button>
          <button type="button" className="quiet" onClick={() => toTray("keep", "The tray keeps only these.")}>
            keep only these in the tray
          </button>
          <button
            type="button"
            className="quiet"
            disabled={!chosen.length}
            onClick={() => toTray("remove", "Removed from the tray.")}
          >
            remove from the tray
          </button>
          <button
            type="button"
            className="quiet"
            disabled={!chosen.length}
            onClick={() => navigator.clipboard.writeText(chosen.join(", ")).then(() => setSaid("Copied."))}
          >
            copy
          </button>
        </div>
        <p role="status" className="small">
          {said}
        </p>
        <Baskets baskets={baskets} symbols={chosen} />
      </Modal.Body>
    </Modal>
  );
}

const escaped = (text: string) => text.replace(/[.*+?^${}()|[\]\\]/g, "\\$&");

/** Saved groups: the part chosen above becomes a new one, or changes one that is there. */
function Baskets({ baskets, symbols }: { baskets: Schemas["BasketList"] | undefined; symbols: string[] }) {
  const [name, setName] = useState("");
  const [problem, setProblem] = useState<string | null>(null);
  const [gone, setGone] = useState<Schemas["OwnBasket"] | null>(null);
  const [open, setOpen] = useState<number | null>(null);
  const failed = (error: Error) => setProblem(error.message);
  const market = useMarket().data?.market ?? "demo";
  const save = useSaveBasket(READ_AGAIN);
  const remove = useKeep(READ_AGAIN, api.deleteBasket);
  const restore = useKeep(READ_AGAIN, api.restoreBasket);
  const put = (draft: Schemas["BasketDraft"], id: number | null) => {
    setProblem(null);
    save.mutate(
      { draft, id },
      {
        onSuccess: () => setName(""),
        onError: (error) => {
          if (error instanceof ApiError && error.problem.type === "name_taken") setProblem(`${error.message}`);
          else failed(error);
        },
      },
    );
  };
  return (
    <section className="baskets">
      <h3>Your baskets</h3>
      <Refused problem={problem} />
      <Gone
        name={gone?.name ?? null}
        onUndo={() => gone && restore.mutate(gone.id, { onSuccess: () => setGone(null), onError: failed })}
      />
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (name.trim()) put({ name: name.trim(), symbols, version: null }, null);
        }}
      >
        <input
          aria-label="Name of a new basket"
          placeholder="save the names above as a basket called …"
          value={name}
          maxLength={120}
          onChange={(event) => setName(event.target.value)}
        />
        <button type="submit" className="quiet" disabled={!name.trim()}>
          save
        </button>
      </form>
      <ul>
        {baskets?.own.map((basket) => (
          <li key={basket.id}>
            <button
              type="button"
              className="screen-name"
              aria-expanded={open === basket.id}
              onClick={() => setOpen(open === basket.id ? null : basket.id)}
            >
              {basket.name}
            </button>{" "}
            <span className="muted">{count(basket.symbols.length, "name")}</span>
            <span className="screen-tools">
              <button
                type="button"
                className="quiet"
                onClick={() =>
                  put(
                    {
                      name: basket.name,
                      version: basket.version,
                      symbols: [...new Set([...basket.symbols, ...symbols])],
                    },
                    basket.id,
                  )
                }
              >
                add these
              </button>
              <button
                type="button"
                className="quiet"
                title="Reports, ex-dividend days and expirations ahead of its names, as iCalendar"
                onClick={() => download(calendarAddress(`basket:${basket.id}`, market)).catch(failed)}
              >
                dates ahead
              </button>
              <button
                type="button"
                className="quiet"
                onClick={() =>
                  put(
                    {
                      name: basket.name,
                      version: basket.version,
                      symbols: basket.symbols.filter((s) => !symbols.includes(s)),
                    },
                    basket.id,
                  )
                }
              >
                remove these
              </button>
              <button
                type="button"
                className="quiet"
                onClick={() => put({ name: basket.name, version: basket.version, symbols }, basket.id)}
              >
                replace by these
              </button>
              <button
                type="button"
                className="quiet"
                onClick={() => remove.mutate(basket, { onSuccess: () => setGone(basket), onError: failed })}
              >
                delete
              </button>
            </span>
            {open === basket.id && (
              <Members
                basket={basket}
                onChange={(list) => put({ name: basket.name, version: basket.version, symbols: list }, basket.id)}
              />
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The names of a basket, taken out one by one or picked from all that are listed. */
function Members({ basket, onChange }: { basket: Schemas["OwnBasket"]; onChange: (symbols: string[]) => void }) {
  const names = useNames().data?.names ?? [];
  const [text, setText] = useState("");
  const found = findNames(names, text).filter((row) => !basket.symbols.includes(row.symbol));
  return (
    <div className="members">
      {basket.symbols.map((symbol) => (
        <span key={symbol}>
          {symbol}
          <button
            type="button"
            className="quiet"
            aria-label={`Take ${symbol} out of ${basket.name}`}
            onClick={() => onChange(basket.symbols.filter((s) => s !== symbol))}
          >
            ×
          </button>
        </span>
      ))}
      <input
        aria-label={`Pick a name for ${basket.name}`}
        placeholder="pick a name …"
        value={text}
        maxLength={64}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => {
          if (event.key !== "Enter" || !found[0]) return;
          event.preventDefault();
          onChange([...basket.symbols, found[0].symbol]);
          setText("");
        }}
      />
      {found.slice(0, 6).map((row) => (
        <button
          key={row.symbol}
          type="button"
          className="quiet"
          title={row.company}
          onClick={() => {
            onChange([...basket.symbols, row.symbol]);
            setText("");
          }}
        >
          {row.symbol}
        </button>
      ))}
    </div>
  );
}

function Side({
  label,
  value,
  size,
  onChange,
}: {
  label: string;
  value: string;
  size: number;
  onChange: (value: string) => void;
}) {
  const baskets = useBaskets().data;
  const screens = useScreens().data;
  const results = useResults();
  return (
    <label>
      <select aria-label={label} value={value} onChange={(event) => onChange(event.target.value)}>
        <option value="tray">the tray</option>
        <option value="pasted">pasted symbols</option>
        {results && <option value="results">results on the Screen ({results.length})</option>}
        <optgroup label="Your baskets">
          {baskets?.own.map((basket) => (
            <option key={basket.id} value={`basket:${basket.id}`}>
              {basket.name}
            </option>
          ))}
        </optgroup>
        <optgroup label="Your screens, now">
          {screens?.saved.map((screen) => (
            <option key={screen.id} value={`screen:${screen.id}`}>
              {screen.name}
            </option>
          ))}
        </optgroup>
        <optgroup label="Sectors">
          {baskets?.sectors.map((sector) => (
            <option key={sector.source} value={sector.source}>
              {sector.name}
            </option>
          ))}
        </optgroup>
        <optgroup label="Members of a fund or index">
          {baskets?.funds.map((fund) => (
            <option key={fund.source} value={fund.source}>
              {fund.name}
            </option>
          ))}
        </optgroup>
      </select>{" "}
      <b>{number(size)}</b>
    </label>
  );
}

const NOBODY: string[] = [];

function useSource(source: string, pasted: Schemas["PastedReply"] | undefined): string[] {
  const tray = useTray().data;
  const results = useResults();
  const held = ["tray", "pasted", "results"].includes(source);
  const answer = useOfVersion({
    queryKey: ["source", source],
    queryFn: ({ signal }) => api.source(source, signal),
    enabled: !held,
  });
  return useMemo(() => {
    if (source === "tray") return tray?.items.map((item) => item.symbol) ?? NOBODY;
    if (source === "pasted") return pasted?.symbols ?? NOBODY;
    if (source === "results") return results ?? NOBODY;
    return answer.data?.symbols ?? NOBODY;
  }, [source, tray, pasted, results, answer.data]);
}

function useLabels(): (source: string) => string {
  const baskets = useBaskets().data;
  const screens = useScreens().data;
  return (source) => {
    const fixed: Record<string, string> = { tray: "the tray", pasted: "what was pasted", results: "the results" };
    if (fixed[source]) return fixed[source];
    const [kind, rest] = source.split(":");
    if (kind === "basket") return baskets?.own.find((b) => String(b.id) === rest)?.name ?? "the basket";
    if (kind === "screen") return screens?.saved.find((s) => String(s.id) === rest)?.name ?? "the screen";
    return rest ?? source;
  };
}
