import { type KeyboardEvent, type RefObject, useId, useMemo, useState } from "react";
import { asOfDay, lastAddress, useAsOf } from "@/shared/address";
import { useBaskets, useHandbook, useNames, usePlans, useScreens } from "@/shared/api/queries";
import { useNavigate } from "@/shared/route";
import { NAMES, STRUCTURES, TICKETS } from "@/shared/stack/things";
import { oneAddress } from "@/shared/structures/one";
import { Options } from "@/shared/ui/Options";
import { findThings, named, type Thing } from "./find";
import { PAGES } from "./pages";

/** Something that can be done here, with the key that does it too. */
export type Action = { words: string; press: string; act: () => void };

const KIND: Record<Thing["kind"], string> = {
  name: "",
  page: "page",
  screen: "screen",
  metric: "metric",
  basket: "basket",
  plan: "plan",
  action: "do",
};
const PAGE_OF_TABLE: Record<string, string> = Object.fromEntries(
  [NAMES, TICKETS, STRUCTURES].map(({ table, page }) => [table, page]),
);

/** Everything there is to go to, each with its address; of what is kept once the box is `open`. */
function useThings(open: boolean, asOf: string | null): Map<Thing, string> {
  const names = useNames().data?.names;
  const screens = useScreens(open).data;
  const handbook = useHandbook(open).data;
  const baskets = useBaskets(open).data;
  const plans = usePlans(asOf, open).data;
  return useMemo(() => {
    const out = new Map<Thing, string>();
    const put = (
      address: string,
      kind: Thing["kind"],
      key: string,
      words: string,
      more = "",
      aside = "",
      press?: string,
    ) => out.set({ kind, key: `${kind} ${key}`, words, more, aside, ...(press && { press }) }, address);
    for (const row of names ?? []) out.set(named(row), `/dossier/${row.symbol}`);
    for (const page of PAGES) put(page.path, "page", page.path, page.title, page.asks, page.asks, page.press);
    const kept = [
      ...(screens?.saved.map((one) => ({ ...one, key: String(one.id) })) ?? []),
      ...(screens?.starters.map((one) => ({ ...one, key: `s-${one.key}` })) ?? []),
    ];
    for (const { key, name, tags, body } of kept) {
      const page = PAGE_OF_TABLE[body.table ?? "names"] ?? NAMES.page;
      put(`${page}?screen=${key}`, "screen", `${page} ${key}`, name, tags.join(", "), tags.join(", "));
    }
    for (const metric of handbook ? [...handbook.metrics, ...handbook.tickets, ...handbook.structures] : [])
      put(`/handbook/${metric.key}`, "metric", metric.key, metric.label, metric.key, metric.key);
    for (const { id, name, symbols } of baskets?.own ?? [])
      put(`/screen?u=basket:${id}`, "basket", String(id), name, "", `${symbols.length} names`);
    for (const { source, name } of [...(baskets?.sectors ?? []), ...(baskets?.funds ?? [])])
      put(`/screen?u=${encodeURIComponent(source)}`, "basket", source, name, source);
    for (const { id, symbol, legs, label, words } of plans?.plans ?? [])
      put(oneAddress(`${symbol} ${legs}`), "plan", String(id), `${symbol} ${label}`, words, words);
    return out;
  }, [names, screens, handbook, baskets, plans]);
}

/** One box for everything: names, pages, screens, metrics, baskets, plans, and what can be done. */
export function FindBox({ inputRef, actions }: { inputRef: RefObject<HTMLInputElement | null>; actions: Action[] }) {
  const navigate = useNavigate();
  const asOf = useAsOf();
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState(0);
  const list = useId();
  const things = useThings(open, asOf);
  const found = useMemo(() => {
    const acts: Thing[] = actions.map(({ words, press }) => ({
      kind: "action",
      key: words,
      words,
      more: "",
      aside: "",
      press,
    }));
    return findThings([...things.keys(), ...acts], text);
  }, [things, actions, text]);

  function go(thing: Thing | undefined) {
    if (!thing && !text.trim()) return;
    setText("");
    setOpen(false);
    inputRef.current?.blur();
    if (thing?.kind === "action") return actions.find(({ words }) => words === thing.words)?.act();
    const address = thing && things.get(thing);
    if (thing?.kind === "page" && address) return navigate(asOfDay(lastAddress(address), asOf));
    // An unknown symbol goes to its Dossier too, which says so and proposes the nearest.
    navigate(asOfDay(address ?? `/dossier/${encodeURIComponent(text.trim().slice(0, 64))}`, asOf));
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
        placeholder="find anything …   /"
        aria-label="Find a name, page, screen, metric, basket, plan or action"
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
          label="Found"
          items={found}
          chosen={chosen}
          keyOf={(thing) => thing.key}
          onChoose={setChosen}
          onPick={go}
          none={<div className="muted">Nothing here is called so.</div>}
        >
          {(thing) => (
            <>
              <b>{thing.words}</b> {thing.kind === "name" && <span>{thing.more}</span>}
              <i>{thing.aside}</i>
              {KIND[thing.kind] && <em>{KIND[thing.kind]}</em>}
              {thing.press && <kbd>{thing.press}</kbd>}
            </>
          )}
        </Options>
      )}
    </div>
  );
}
