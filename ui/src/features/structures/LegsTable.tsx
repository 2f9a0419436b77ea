import { type KeyboardEvent, useRef } from "react";
import type { Schemas } from "@/shared/api/client";
import { date, number } from "@/shared/format";
import { type Leg, type Legs, roll, stepQuantity, stepStrike } from "@/shared/structures/legs";
import { Scrolling } from "@/shared/ui/Scrolling";

/** A structure's legs: walked and changed with the keys, or with the buttons of a row. */
export function LegsTable({
  legs,
  reply,
  onChange,
}: {
  legs: Legs;
  reply: Schemas["OneReply"];
  onChange: (legs: Legs) => void;
}) {
  const table = useRef<HTMLTableElement>(null);
  const listed = reply.expirations;
  const put = (place: number, leg: Leg) =>
    onChange({ ...legs, options: legs.options.map((other, i) => (i === place ? leg : other)) });
  const remove = (place: number) => {
    if (legs.options.length + (legs.shares ? 1 : 0) < 2) return;
    onChange({ ...legs, options: legs.options.filter((_, i) => i !== place) });
    rowAt(Math.max(0, place - 1))?.focus();
  };
  const rowAt = (place: number) => table.current?.querySelectorAll<HTMLElement>("tbody tr[data-leg]")[place];
  function key(event: KeyboardEvent, place: number) {
    const leg = legs.options[place];
    if (!leg || event.target !== event.currentTarget || event.ctrlKey || event.metaKey || event.altKey) return;
    const up = event.key === "ArrowUp" || event.key === "ArrowLeft" || event.key === "-" ? -1 : 1;
    const step = () => {
      switch (event.key) {
        case "ArrowUp":
        case "ArrowDown":
          return rowAt(place + up)?.focus();
        case "ArrowLeft":
        case "ArrowRight":
          return put(place, (event.shiftKey ? roll : stepStrike)(leg, listed, up));
        case "+":
        case "-":
          return put(place, stepQuantity(leg, up));
        case "Delete":
          return remove(place);
      }
    };
    if (!["ArrowUp", "ArrowDown", "ArrowLeft", "ArrowRight", "+", "-", "Delete"].includes(event.key)) return;
    event.preventDefault();
    event.stopPropagation();
    step();
  }
  function add() {
    const near = listed.find((one) => one.expiration === legs.options[0]?.expiration) ?? listed[0];
    const strikes = near?.calls ?? [];
    if (!near || strikes.length === 0 || legs.options.length >= 8) return;
    const strike = strikes.reduce((best, k) => (Math.abs(k - reply.spot) < Math.abs(best - reply.spot) ? k : best));
    onChange({
      ...legs,
      options: [...legs.options, { quantity: 1, isCall: true, strike, expiration: near.expiration }],
    });
  }
  const told = reply.structure.legs;
  return (
    <section className="legs">
      <header>
        <h3>Legs</h3>
        <span className="muted">← → strike, Shift ← → expiration, + − contracts, Delete</span>
        <button type="button" className="quiet" onClick={add} disabled={legs.options.length >= 8}>
          add a leg
        </button>
      </header>
      <Scrolling label="Legs">
        <table ref={table} className="plain-table">
          <thead>
            <tr>
              <th>Contracts</th>
              <th>Right</th>
              <th>Strike</th>
              <th>Expiration</th>
              <th>
                Bid – ask <span className="unit">$</span>
              </th>
              <th>
                IV <span className="unit">%</span>
              </th>
              <th>Delta</th>
              <th>OI</th>
              <th>
                <span className="visually-hidden">Change</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {legs.options.map((leg, place) => {
              const said = told[place];
              const name = `leg ${place + 1}, ${leg.quantity > 0 ? "bought" : "sold"} ${leg.strike} ${leg.isCall ? "call" : "put"}`;
              return (
                <tr
                  // biome-ignore lint/suspicious/noArrayIndexKey: a leg is its place: what it holds changes under the hand
                  key={place}
                  data-leg={place}
                  tabIndex={0}
                  aria-label={name}
                  onKeyDown={(event) => key(event, place)}
                >
                  <td>
                    <button
                      type="button"
                      tabIndex={-1}
                      className="quiet"
                      aria-label={`${name}: one contract less`}
                      onClick={() => put(place, stepQuantity(leg, -1))}
                    >
                      −
                    </button>{" "}
                    <b>{leg.quantity > 0 ? `+${leg.quantity}` : number(leg.quantity)}</b>{" "}
                    <button
                      type="button"
                      tabIndex={-1}
                      className="quiet"
                      aria-label={`${name}: one contract more`}
                      onClick={() => put(place, stepQuantity(leg, 1))}
                    >
                      +
                    </button>
                  </td>
                  <td>
                    <button
                      type="button"
                      tabIndex={-1}
                      className={leg.isCall ? "quiet call" : "quiet put"}
                      title="Call or put"
                      onClick={() => put(place, { ...leg, isCall: !leg.isCall })}
                    >
                      {leg.isCall ? "call" : "put"}
                    </button>
                  </td>
                  <td>{number(leg.strike, 2)}</td>
                  <td>
                    {date(leg.expiration)} <span className="unit">{said?.days} d</span>
                  </td>
                  <td>
                    {said?.problem ? (
                      <span className="muted" title={said.problem}>
                        no quote
                      </span>
                    ) : (
                      `${number(said?.bid, 2)} – ${number(said?.ask, 2)}`
                    )}
                  </td>
                  <td>{number(said?.iv, 1)}</td>
                  <td>{number(said?.delta, 2)}</td>
                  <td>{number(said?.open_interest)}</td>
                  <td>
                    <button
                      type="button"
                      tabIndex={-1}
                      className="quiet"
                      aria-label={`Take ${name} out`}
                      onClick={() => remove(place)}
                    >
                      ×
                    </button>
                  </td>
                </tr>
              );
            })}
            {legs.shares !== 0 && (
              <tr>
                <td>
                  <b>{legs.shares > 0 ? `+${legs.shares}` : number(legs.shares)}</b>
                </td>
                <td colSpan={7}>shares at {number(reply.spot, 2)}</td>
                <td>
                  <button
                    type="button"
                    className="quiet"
                    aria-label="Take the shares out"
                    onClick={() => legs.options.length > 0 && onChange({ ...legs, shares: 0 })}
                  >
                    ×
                  </button>
                </td>
              </tr>
            )}
          </tbody>
        </table>
      </Scrolling>
    </section>
  );
}
