import { type KeyboardEvent, type RefObject, useEffect, useState } from "react";
import { useMarket, useToggleTray } from "@/shared/api/queries";
import { type Trip, useSeeTrips, useUnseenTrips } from "@/shared/api/tripwires";
import { count, number, signed } from "@/shared/format";
import { marketHere } from "@/shared/market";
import { Link } from "@/shared/route";
import { tripAddress, tripNumbers } from "@/shared/tripWords";

const MOST_SHOWN = 12;
const QUIET = () => `flinch quiet ${marketHere() ?? ""}`;

/** What tripped and nobody has looked at: one notice at the lower edge, which unfolds when there are many. */
export function Trips({ listRef }: { listRef: RefObject<HTMLElement | null> }) {
  const trips = useUnseenTrips().data?.trips ?? [];
  const session = useMarket().data?.sessions.at(-1) ?? null;
  const [quiet, setQuiet] = useState(() => localStorage.getItem(QUIET()));
  const [unfolded, setUnfolded] = useState(false);
  const see = useSeeTrips();
  const { toggle } = useToggleTray();
  const hushed = session !== null && quiet === session;
  const told = hushed ? [] : trips;
  useTitleCount(told.length);
  const hush = () => {
    localStorage.setItem(QUIET(), session ?? "");
    setQuiet(session);
  };
  const seen = (some: Trip[]) => see.mutate(some.map(({ id }) => id));
  const toTray = (trip: Trip) =>
    toggle(trip.symbol, {
      page: "Tripwires",
      words: trip.name ?? trip.words,
      link: `/tripwires?of=${trip.tripwire}`,
      values: Object.fromEntries(trip.numbers.map(({ label, value }) => [label, value])),
    });
  const onKey = (trip: Trip) => (event: KeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || !["Delete", "t"].includes(event.key)) return;
    event.preventDefault();
    event.stopPropagation();
    if (event.key === "t") toTray(trip);
    else seen([trip]);
  };
  const shown = unfolded ? told.slice(0, MOST_SHOWN) : told.slice(0, 1);
  return (
    <section className="trips" ref={listRef} aria-label="What tripped" role="status" aria-live="polite">
      {told.length > 0 && (
        <>
          <ul>
            {shown.map((trip) => (
              <li key={trip.id} onKeyDown={onKey(trip)}>
                <Link to={tripAddress(trip)} onClick={() => seen([trip])}>
                  {trip.symbol}
                </Link>{" "}
                <span>
                  tripped at <b>{trip.moment.slice(11, 16)}</b>: {trip.words}
                  {trip.numbers.length > 0 && <span className="muted"> ({tripNumbers(trip)})</span>}
                  {trip.missed && <span className="warn"> found afterwards</span>}
                </span>{" "}
                <span className="muted">
                  at {number(trip.price, 2)}, since then {signed(trip.since, 2)} σ ·{" "}
                  {trip.name ?? "a tripwire that is gone"} · {trip.parked}
                </span>
                <span className="acts">
                  <button type="button" className="quiet" onClick={() => toTray(trip)}>
                    to the tray
                  </button>
                  <button type="button" className="quiet" onClick={() => seen([trip])}>
                    dismiss
                  </button>
                </span>
              </li>
            ))}
          </ul>
          <p>
            {told.length > 1 && (
              <button type="button" className="quiet" aria-expanded={unfolded} onClick={() => setUnfolded(!unfolded)}>
                {unfolded ? "fold" : `and ${number(told.length - 1)} more`}
              </button>
            )}
            {told.length > MOST_SHOWN && unfolded && <Link to="/tripwires">all {count(told.length, "trip")}</Link>}
            {told.length > 1 && (
              <button type="button" className="quiet" onClick={() => seen(told)}>
                dismiss all
              </button>
            )}
            <button
              type="button"
              className="quiet"
              title="They are kept in the log; the next session tells again"
              onClick={hush}
            >
              quiet for this session
            </button>
          </p>
        </>
      )}
    </section>
  );
}

/** How many there are stands before the page's title, whatever page that is. */
function useTitleCount(many: number) {
  useEffect(() => {
    const plain = () => document.title.replace(/^\(\d+\) /, "");
    const tell = () => {
      const wanted = many > 0 ? `(${many}) ${plain()}` : plain();
      if (document.title !== wanted) document.title = wanted;
    };
    tell();
    const titles = new MutationObserver(tell);
    const title = document.querySelector("title");
    if (title) titles.observe(title, { childList: true });
    return () => titles.disconnect();
  }, [many]);
}
