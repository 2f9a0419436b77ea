import { type KeyboardEvent, useEffect, useMemo, useRef } from "react";
import { download, type FileFormat, type Schemas } from "@/shared/api/client";
import { useChain } from "@/shared/api/queries";
import { compact, count, DASH, date, number, signed } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { type Legs, readLegs, withLeg, writeLegs } from "@/shared/structures/legs";
import { Missing } from "@/shared/ui/Missing";
import { Empty, Failed, Loading } from "@/shared/ui/States";
import { ChosenLegs } from "./ChosenLegs";
import type { PartProps } from "./part";

type Data = Schemas["ChainView"];
type Contract = Schemas["Contract"];

const FORMATS: FileFormat[] = ["xlsx", "csv", "json"];

/** The option chain: expirations as tabs, both sides around the strikes, walked with the keyboard. */
export function ChainPart({ symbol, at, params, onWrite }: PartProps) {
  const answer = useChain(symbol, params.get("expiration"), at);
  const data = answer.data;
  const strike = params.get("strike");
  const asked = strike === null ? null : Number(strike);
  const step = (by: number) => {
    const place = data?.expirations.findIndex((row) => row.expiration === data.expiration) ?? -1;
    const next = data?.expirations[place + by];
    if (place >= 0 && next) onWrite({ expiration: next.expiration, strike: null });
  };
  useKeys(
    Object.fromEntries(
      [
        ["ArrowLeft", -1],
        ["ArrowRight", 1],
      ].map(([key, by]) => [key, () => step(Number(by))]),
    ),
  );
  const legs = useMemo(() => readLegs(params.get("legs") ?? ""), [params]);
  const choose = (strike: number, isCall: boolean, by: 1 | -1) => {
    if (!data?.expiration) return;
    const next = withLeg(legs, { strike, isCall, expiration: data.expiration }, by);
    onWrite({ legs: writeLegs(next) || null });
  };
  if (!data) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="the chain" />;
  if (data.expiration === null)
    return (
      <Empty>
        <p>No options are listed on {symbol}.</p>
      </Empty>
    );
  return (
    <div className="chain">
      <div className="chain-tabs" role="tablist" aria-label="Expirations">
        {data.expirations.map((row) => (
          <button
            key={row.expiration}
            type="button"
            role="tab"
            aria-selected={row.expiration === data.expiration}
            className={row.monthly ? "monthly" : undefined}
            title={`${row.days} days${row.monthly ? ", monthly" : ""}${row.earnings_inside ? ", earnings inside" : ""}`}
            onClick={() => onWrite({ expiration: row.expiration, strike: null })}
          >
            {date(row.expiration, row.days > 300)}
            {row.earnings_inside && <abbr title="Earnings are reported before it"> E</abbr>}
            <small>{row.days} d</small>
          </button>
        ))}
      </div>
      <p className="chain-says">
        {data.exercise === "american" ? "American" : "European"} exercise · price <b>{number(data.spot, 2)}</b>
        {data.quoted_at && <> · quotes of {data.quoted_at.slice(11, 16)}</>} · forward {number(data.forward, 2)} ·
        expected move {number(data.lower, 2)} to {number(data.upper, 2)} · fit {number(data.quality)}
        {data.flaw && <span className="warn"> ({data.flaw})</span>}
        {data.earnings && <span className="warn"> · earnings {date(data.earnings)} inside</span>}
        {data.ex_dates.length > 0 && (
          <span className="warn"> · ex-dividend {data.ex_dates.map((day) => date(day)).join(", ")} inside</span>
        )}
        {data.adjusted > 0 && (
          <span className="warn" title="They deliver something else after a corporate action: see Positioning">
            {" "}
            · {count(data.adjusted, "adjusted contract")} kept apart
          </span>
        )}
        {data.rows.length > 0 && (
          <span className="chain-out">
            take out{" "}
            {FORMATS.map((format) => (
              <button
                key={format}
                type="button"
                className="quiet"
                onClick={() =>
                  download(
                    `/api/dossier/chain-file/${symbol}?${new URLSearchParams({ ...at, expiration: data.expiration ?? "", format })}`,
                  )
                }
              >
                {format.toUpperCase()}
              </button>
            ))}
          </span>
        )}
      </p>
      {data.reason ? (
        <Empty>
          <p>No strikes to show: {data.reason}. What was read of it, its surface, is under Volatility.</p>
        </Empty>
      ) : (
        <>
          <ChosenLegs symbol={symbol} text={params.get("legs")} asOf={at.as_of ?? null} onWrite={onWrite} />
          <Strikes key={data.expiration} data={data} asked={asked} chosenLegs={legs} onLeg={choose} />
        </>
      )}
    </div>
  );
}

const SIDE: [string, string][] = [
  ["OI", "Open interest, contracts"],
  ["Vol", "Contracts traded today"],
  ["Vega", "$ a point of volatility, of the fitted surface"],
  ["Theta", "$ a day, of the fitted surface"],
  ["Gamma", "Of the fitted surface"],
  ["Delta", "Of the fitted surface"],
  ["Off fit", "Mid less fitted price, $"],
  ["IV %", "Implied by the mid"],
  ["Width %", "Ask less bid in percent of mid"],
  ["Bid", "$"],
  ["Ask", "$"],
];

type OnLeg = (strike: number, isCall: boolean, by: 1 | -1) => void;

function Strikes({
  data,
  asked,
  chosenLegs,
  onLeg,
}: {
  data: Data;
  asked: number | null;
  chosenLegs: Legs;
  onLeg: OnLeg;
}) {
  const body = useRef<HTMLTableSectionElement>(null);
  const middle = data.rows.reduce(
    (best, row, i) =>
      Math.abs(row.strike - data.spot) < Math.abs((data.rows[best]?.strike ?? 0) - data.spot) ? i : best,
    0,
  );
  const chosen = data.rows.findIndex((row) => row.strike === asked);
  const start = chosen < 0 ? middle : chosen;
  useEffect(() => {
    // Within its own box: scrolling into view would move the frame as well.
    const row = body.current?.rows[start];
    const box = body.current?.closest<HTMLElement>(".chain-table");
    if (row && box) box.scrollTop = row.offsetTop - box.clientHeight / 2;
    if (chosen >= 0) row?.focus({ preventScroll: true });
  }, [start, chosen]);
  const held = (strike: number, isCall: boolean) =>
    chosenLegs.options.find(
      (leg) => leg.expiration === data.expiration && leg.strike === strike && leg.isCall === isCall,
    )?.quantity ?? 0;
  const walk = (event: KeyboardEvent<HTMLTableRowElement>, strike: number) => {
    if (!event.ctrlKey && !event.metaKey && !event.altKey && /^[cv]$/i.test(event.key)) {
      event.preventDefault();
      event.stopPropagation();
      return onLeg(strike, event.key.toLowerCase() === "c", event.shiftKey ? -1 : 1);
    }
    const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 10, PageUp: -10 }[event.key];
    const rows = body.current?.rows;
    if (!by || !rows) return;
    event.preventDefault();
    const place = [...rows].indexOf(event.currentTarget);
    rows[Math.max(0, Math.min(rows.length - 1, place + by))]?.focus();
  };
  // The strikes between which an edge of the expected move lies.
  const edges = [data.lower, data.upper].map((edge) =>
    edge === null ? -1 : data.rows.findIndex((row) => row.strike >= edge),
  );
  return (
    <div className="chain-table">
      <table>
        <thead>
          <tr>
            <th colSpan={11} scope="colgroup" className="calls">
              Calls
            </th>
            <th />
            <th colSpan={11} scope="colgroup" className="puts">
              Puts
            </th>
          </tr>
          <tr>
            {SIDE.map(([name, words]) => (
              <th key={name} title={words}>
                {name}
              </th>
            ))}
            <th>Strike</th>
            {[...SIDE.slice(-2), ...SIDE.slice(0, -2).reverse()].map(([name, words]) => (
              <th key={name} title={words}>
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody ref={body}>
          {data.rows.map((row, i) => (
            <tr
              key={row.strike}
              tabIndex={i === start ? 0 : -1}
              onKeyDown={(event) => walk(event, row.strike)}
              className={[
                edges.includes(i) ? "edge" : "",
                row.strike < data.spot ? "call-in" : "put-in",
                i === middle ? "at-money" : "",
                i === chosen ? "chosen" : "",
              ].join(" ")}
            >
              <Side contract={row.call} strike={row.strike} held={held(row.strike, true)} onLeg={onLeg} />
              <th scope="row" title={`fitted volatility ${number(row.fit_iv, 1)} %`}>
                {number(row.strike, 2)}
              </th>
              <Side contract={row.put} strike={row.strike} held={held(row.strike, false)} onLeg={onLeg} mirrored />
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Side({
  contract: k,
  strike,
  held,
  onLeg,
  mirrored = false,
}: {
  contract: Contract | null;
  strike: number;
  /** Contracts of it that are chosen, + bought. */
  held: number;
  onLeg: OnLeg;
  mirrored?: boolean;
}) {
  const side = mirrored ? "put" : "call";
  if (!k) return <td colSpan={11} className={`${side} muted`} />;
  const quotes = [
    <td key="bid" className={held < 0 ? `${side} sold` : side}>
      <button
        type="button"
        tabIndex={-1}
        aria-label={`Sell a ${number(strike, 2)} ${side}: ${held < 0 ? `${number(held)} ` : ""}${number(k.bid, 2)}`}
        title={`Sell one (Shift ${mirrored ? "v" : "c"})`}
        onClick={() => onLeg(strike, !mirrored, -1)}
      >
        {held < 0 && <b>{number(held)} </b>}
        {number(k.bid, 2)}
      </button>
    </td>,
    <td key="ask" className={held > 0 ? `${side} bought` : side}>
      <button
        type="button"
        tabIndex={-1}
        aria-label={`Buy a ${number(strike, 2)} ${side}: ${held > 0 ? `+${held} ` : ""}${number(k.ask, 2)}`}
        title={`Buy one (${mirrored ? "v" : "c"})`}
        onClick={() => onLeg(strike, !mirrored, 1)}
      >
        {held > 0 && <b>+{held} </b>}
        {number(k.ask, 2)}
      </button>
    </td>,
  ];
  const rest = [
    <td key="oi" className={side}>
      {compact(k.open_interest)}
    </td>,
    <td key="volume" className={side}>
      {k.volume ? compact(k.volume) : DASH}
    </td>,
    <td key="vega" className={side}>
      {number(k.vega, 3)}
    </td>,
    <td key="theta" className={side}>
      {number(k.theta, 3)}
    </td>,
    <td key="gamma" className={side}>
      {number(k.gamma, 4)}
    </td>,
    <td key="delta" className={side}>
      {number(k.delta, 2)}
    </td>,
    <td key="off" className={side}>
      {k.off_fit !== null && Math.abs(k.off_fit) < 0.005 ? "0.00" : signed(k.off_fit, 2)}
    </td>,
    <td key="iv" className={side}>
      {k.iv === null ? <Missing why={k.why} /> : number(k.iv, 1)}
    </td>,
    <td key="width" className={side}>
      {number(k.width_pct)}
    </td>,
  ];
  return mirrored ? [...quotes, ...rest.reverse()] : [...rest, ...quotes];
}
