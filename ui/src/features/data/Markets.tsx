import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { chooseMarket } from "@/shared/api/choose";
import { api, type Schemas } from "@/shared/api/client";
import { city, DASH, instant, number } from "@/shared/format";

const USUAL: Schemas["MarketDraft"] = { name: "", calendar: "XNYS", currency: "USD", index: null, rate: 0.04 };

/** The markets beside each other: open one, make one, remove one. */
export function Markets({ list }: { list: Schemas["MarketList"] }) {
  const client = useQueryClient();
  const changed = { onSuccess: () => client.invalidateQueries({ queryKey: ["markets"] }) };
  const remove = useMutation({ mutationKey: ["market"], mutationFn: api.removeMarket, ...changed });
  const [asked, setAsked] = useState<string | null>(null);
  return (
    <section aria-labelledby="markets-title">
      <h1 id="markets-title">Markets</h1>
      <table className="plain-table">
        <thead>
          <tr>
            <th className="words">Market</th>
            <th className="words">Newest moment</th>
            <th className="words">From</th>
            <th className="words">Calendar</th>
            <th className="words">Currency</th>
            <th className="words">Index</th>
            <th>Rate %</th>
            <th className="words">Has none of</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {list.markets.map((market) => (
            <tr key={market.name} className={market.name === list.market ? "chosen" : undefined}>
              <th scope="row" className="words">
                {market.name}
              </th>
              <td className="words">{market.as_of ? `${instant(market.as_of)} ${city(market.zone)}` : "empty"}</td>
              <td className="words">{market.source ?? DASH}</td>
              <td className="words">{market.calendar}</td>
              <td className="words">{market.currency}</td>
              <td className="words">{market.index ?? "the first one"}</td>
              <td>{number(100 * market.rate, 2)}</td>
              <td className="words kinds">{market.missing.join(", ").replaceAll("_", " ") || "nothing"}</td>
              <td className="acts">
                {market.name === list.market ? (
                  <span className="muted">is open</span>
                ) : (
                  <button
                    type="button"
                    className="plain"
                    onClick={() => void chooseMarket(market.name, market.usable ? "/screen" : "/data")}
                  >
                    open
                  </button>
                )}
                {market.name !== "demo" && market.name !== list.market && (
                  <button type="button" className="quiet" onClick={() => setAsked(market.name)}>
                    remove
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {asked && (
        <p role="alert" className="asked">
          All data of {asked} go for good; tray, lines, plans and baskets of it stay.{" "}
          <button
            type="button"
            className="plain"
            onClick={() => {
              remove.mutate(asked);
              setAsked(null);
            }}
          >
            remove {asked}
          </button>{" "}
          <button type="button" className="quiet" onClick={() => setAsked(null)}>
            keep it
          </button>
        </p>
      )}
      {remove.error && <p role="alert">{remove.error.message}</p>}
      <NewMarket />
    </section>
  );
}

/** The few words that a market begins with. */
function NewMarket() {
  const [draft, setDraft] = useState(USUAL);
  const make = useMutation({
    mutationKey: ["market"],
    mutationFn: api.makeMarket,
    onSuccess: (made) => chooseMarket(made.name, "/data"),
  });
  const set = (change: Partial<Schemas["MarketDraft"]>) => setDraft({ ...draft, ...change });
  const field = (label: string, value: string, onChange: (text: string) => void, size: number, hint?: string) => (
    <label>
      {label}
      <input value={value} size={size} placeholder={hint} onChange={(event) => onChange(event.target.value)} />
    </label>
  );
  return (
    <form
      className="new-market"
      aria-label="A market of one's own"
      onSubmit={(event) => {
        event.preventDefault();
        make.mutate({ ...draft, name: draft.name.trim() });
      }}
    >
      <h2>A market of one's own</h2>
      <div className="fields">
        {field("Name", draft.name, (name) => set({ name }), 16, "mine")}
        {field("Calendar", draft.calendar ?? "", (calendar) => set({ calendar: calendar.trim().toUpperCase() }), 6)}
        {field("Currency", draft.currency ?? "", (currency) => set({ currency: currency.trim().toUpperCase() }), 4)}
        {field("Index", draft.index ?? "", (index) => set({ index: index.trim() || null }), 8, "a symbol")}
        <label>
          Rate %
          <input
            type="number"
            step="0.01"
            min={-49}
            max={99}
            value={number(100 * (draft.rate ?? 0), 2)}
            onChange={(event) => set({ rate: event.target.valueAsNumber / 100 || 0 })}
          />
        </label>
        <button type="submit" className="plain" disabled={make.isPending || draft.name.trim() === ""}>
          make it
        </button>
      </div>
      {make.error && <p role="alert">{make.error.message}</p>}
    </form>
  );
}
