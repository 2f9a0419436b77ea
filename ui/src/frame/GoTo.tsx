import { type KeyboardEvent, type RefObject, useId, useState } from "react";
import { useNavigate } from "react-router";
import { asOfDay, useAsOf } from "@/shared/address";
import type { Schemas } from "@/shared/api/client";
import { useNames } from "@/shared/api/queries";
import { Options } from "@/shared/ui/Options";

const MOST = 8;
type Row = Schemas["NameRow"];

/** Symbols that begin with the text, then companies with a word that does, then anything that contains it. */
export function findNames(names: Row[], text: string): Row[] {
  const wanted = text.trim().toLowerCase();
  if (!wanted) return [];
  const grade = (row: Row): number => {
    const symbol = row.symbol.toLowerCase();
    const company = row.company.toLowerCase();
    if (symbol === wanted) return 0;
    if (symbol.startsWith(wanted)) return 1;
    if (company.split(/\s+/).some((word) => word.startsWith(wanted)) || company.startsWith(wanted)) return 2;
    return company.includes(wanted) || symbol.includes(wanted) ? 3 : 9;
  };
  return names
    .map((row) => ({ row, grade: grade(row) }))
    .filter((entry) => entry.grade < 9)
    .sort((a, b) => a.grade - b.grade || a.row.symbol.localeCompare(b.row.symbol))
    .slice(0, MOST)
    .map((entry) => entry.row);
}

/** Jump to a name by symbol or company. */
export function GoTo({ inputRef }: { inputRef: RefObject<HTMLInputElement | null> }) {
  const navigate = useNavigate();
  const asOf = useAsOf();
  const names = useNames().data?.names ?? [];
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState(0);
  const list = useId();
  const found = findNames(names, text);

  function go(row: Row | undefined) {
    if (!row && !text.trim()) return;
    // An unknown symbol goes to its Dossier too, which says so and proposes the nearest.
    navigate(asOfDay(`/dossier/${encodeURIComponent(row?.symbol ?? text.trim().slice(0, 64))}`, asOf));
    setText("");
    setOpen(false);
    inputRef.current?.blur();
  }

  function key(event: KeyboardEvent<HTMLInputElement>) {
    const input = event.currentTarget;
    if (event.key === "ArrowDown") setChosen(Math.min(chosen + 1, found.length - 1));
    else if (event.key === "ArrowUp") setChosen(Math.max(chosen - 1, 0));
    else if (event.key === "Enter") go(found[chosen]);
    else if (event.key === "Escape") {
      setText("");
      setOpen(false);
      input.blur();
    } else return;
    event.preventDefault();
  }

  const showing = open && text.trim() !== "";
  return (
    <div className="goto">
      <input
        ref={inputRef}
        value={text}
        placeholder="go to a name …   /"
        aria-label="Go to a name, by symbol or company"
        role="combobox"
        aria-expanded={showing}
        aria-controls={list}
        aria-autocomplete="list"
        aria-activedescendant={showing && found.length > 0 ? `${list}-${chosen}` : undefined}
        maxLength={64}
        spellCheck={false}
        autoComplete="off"
        onChange={(event) => {
          setText(event.target.value);
          setChosen(0);
          setOpen(true);
        }}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onKeyDown={key}
      />
      {showing && (
        <Options
          id={list}
          className="goto-list"
          label="Names found"
          items={found}
          chosen={chosen}
          keyOf={(row) => row.symbol}
          onChoose={setChosen}
          onPick={go}
          none={<div className="muted">No symbol or company matches.</div>}
        >
          {(row) => (
            <>
              <b>{row.symbol}</b> <span>{row.company}</span> <i>{row.kind === "stock" ? row.sector : row.kind}</i>
            </>
          )}
        </Options>
      )}
    </div>
  );
}
