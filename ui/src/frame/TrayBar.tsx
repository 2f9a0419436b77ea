import { type KeyboardEvent, type Ref, useState } from "react";
import { asOfDay, useAsOf } from "@/shared/address";
import { calendarAddress, download } from "@/shared/api/client";
import { useChangeTray, useMarket, usePlans, useTray } from "@/shared/api/queries";
import { count } from "@/shared/format";
import { useNavigate } from "@/shared/route";
import { TakeOut } from "@/shared/ui/TakeOut";
import { useSubject } from "./subject";

/** The working list, docked on every page. */
export function TrayBar({
  listRef,
  onLists,
  onPlans,
}: {
  listRef: Ref<HTMLUListElement>;
  onLists: () => void;
  onPlans: () => void;
}) {
  const tray = useTray();
  const change = useChangeTray();
  const navigate = useNavigate();
  const asOf = useAsOf();
  const { setGlance } = useSubject();
  const [confirmed, setConfirmed] = useState("");
  const dates = calendarAddress("tray", useMarket().data?.market ?? "demo");
  const items = tray.data?.items ?? [];
  const plans = usePlans(asOf).data?.plans ?? [];
  const plansOf = (symbol: string) => plans.filter((plan) => plan.symbol === symbol).length;

  function key(event: KeyboardEvent<HTMLButtonElement>, symbol: string) {
    const chip = event.currentTarget.closest("li");
    const next = event.key === "ArrowRight" ? chip?.nextElementSibling : chip?.previousElementSibling;
    if (event.key === "Delete" || event.key === "Backspace") {
      remove(symbol);
      (next ?? chip?.nextElementSibling)?.querySelector("button")?.focus();
    } else if (event.key === "ArrowRight" || event.key === "ArrowLeft") next?.querySelector("button")?.focus();
    else return;
    event.preventDefault();
  }

  function remove(symbol: string) {
    setGlance(null);
    change.mutate({ kind: "remove", symbol });
    setConfirmed(`${symbol} was taken out of the tray`);
  }

  return (
    <section className="tray" aria-label="Tray">
      <h2>
        Tray <span className="tray-count">{items.length}</span>
      </h2>
      <ul ref={listRef}>
        {items.map((item) => (
          <li key={item.symbol}>
            <button
              type="button"
              className="chip"
              title={`${item.company} · ${item.why.page}: ${item.why.words}`}
              onFocus={() => setGlance(item.symbol)}
              onBlur={(event) => {
                // The Peek keeps showing the name while the hand is on its way there.
                if (event.relatedTarget?.closest("main, .topbar")) setGlance(null);
              }}
              onKeyDown={(event) => key(event, item.symbol)}
              onClick={() => navigate(asOfDay(`/dossier/${item.symbol}`, asOf))}
            >
              {item.symbol}
              {plansOf(item.symbol) > 0 && (
                <span className="chip-plans" title={count(plansOf(item.symbol), "plan")}>
                  {plansOf(item.symbol)}
                </span>
              )}
            </button>
            <button
              type="button"
              className="chip-remove"
              tabIndex={-1}
              aria-label={`Take ${item.symbol} out of the tray`}
              onClick={() => remove(item.symbol)}
            >
              ×
            </button>
          </li>
        ))}
        {items.length === 0 && tray.data && (
          <li className="muted">Empty. Press t on a name to keep it here, with the reason it came.</li>
        )}
      </ul>
      <div className="tray-tools">
        {tray.data?.undo && (
          <button
            type="button"
            className="quiet"
            onClick={() => change.mutate({ kind: "undo", version: tray.data?.version ?? 0 })}
          >
            undo: {tray.data.undo}
          </button>
        )}
        {plans.length > 0 && (
          <button type="button" className="quiet" onClick={onPlans} title="Structures kept with a reason and exits (i)">
            plans {plans.length}
          </button>
        )}
        <button type="button" className="quiet" title="Keep only, add, remove; paste; baskets (l)" onClick={onLists}>
          keep ∩ · add ∪ · drop − · paste · baskets
        </button>
        {items.length > 0 && (
          <TakeOut
            drop="up"
            onFile={(format) =>
              download(`/api/tray/export?format=${format}`).catch((error: Error) => setConfirmed(error.message))
            }
            onCopy={() =>
              navigator.clipboard
                .writeText(items.map((item) => item.symbol).join(", "))
                .then(() => setConfirmed(`${items.length} symbols copied`))
            }
            onDates={{
              load: () => download(dates).catch((error: Error) => setConfirmed(error.message)),
              address: () =>
                navigator.clipboard
                  .writeText(new URL(dates, window.location.href).href)
                  .then(() =>
                    setConfirmed("The calendar’s address is copied: a calendar program can subscribe to it."),
                  ),
            }}
          />
        )}
        {items.length > 0 && (
          <button
            type="button"
            className="quiet"
            onClick={() => change.mutate({ kind: "clear", version: tray.data?.version ?? 0 })}
          >
            clear
          </button>
        )}
      </div>
      <span className="visually-hidden" role="status">
        {confirmed}
      </span>
    </section>
  );
}
