import { useEffect, useMemo, useState } from "react";
import { useParams, useSearchParams } from "react-router";
import { useSubject } from "@/frame/subject";
import { asOfDay, lastAddress, useAddress } from "@/shared/address";
import { ApiError, type Schemas } from "@/shared/api/client";
import { usePlans, useStructure, useToggleTray } from "@/shared/api/queries";
import { EChart } from "@/shared/chart/EChart";
import { usePalette } from "@/shared/chart/palette";
import { count, date, metricText, number, signed } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { Link, useNavigate } from "@/shared/route";
import { type Legs, readLegs, writeLegs } from "@/shared/structures/legs";
import { AsOf } from "@/shared/ui/AsOf";
import { Figure } from "@/shared/ui/Figure";
import { Scrolling } from "@/shared/ui/Scrolling";
import { Failed, Loading } from "@/shared/ui/States";
import { LegsTable } from "./LegsTable";
import { OpinionRecord } from "./OpinionRecord";
import { PlanForm } from "./PlanForm";
import { payoffOption } from "./payoffOption";
import { useScreenReason } from "./reason";
import { Num } from "./SearchForm";
import { Verdicts } from "./Verdicts";

type OneReply = Schemas["OneReply"];
const WORDS = { market: "market", past: "own past", forecast: "forecast" };

/** One structure: payoff, three opinions, what may happen, and the plan for it. All of it stands in the address. */
export default function OnePage() {
  const { symbol = "" } = useParams();
  const [params] = useSearchParams();
  if (!params.get("legs"))
    return (
      <Failed error={new Error("This address names no legs.")}>
        <p>
          <Link to={`/structures?u=name:${symbol.toUpperCase()}`}>Search structures of {symbol.toUpperCase()}</Link>
        </p>
      </Failed>
    );
  return <One key={symbol} symbol={symbol.toUpperCase()} />;
}

function One({ symbol }: { symbol: string }) {
  const [params, write] = useAddress();
  const navigate = useNavigate();
  const { setSubject } = useSubject();
  const { has, toggle } = useToggleTray();
  const colours = usePalette();
  const [record, setRecord] = useState(false);
  const planning = params.get("plan") === "1";
  const togglePlan = () => write({ plan: planning ? null : "1" });
  const legsText = params.get("legs") ?? "";
  const asOf = params.get("asof");
  const numberOf = (key: string, usual: number) => {
    const value = Number(params.get(key) ?? usual);
    return Number.isFinite(value) ? value : usual;
  };
  const entry = Math.min(1, Math.max(0, numberOf("entry", 0.3)));
  const shift = Math.min(200, Math.max(-80, numberOf("shift", 0)));
  const ahead = params.get("ahead") === null ? null : Math.max(0, numberOf("ahead", 0));
  const vs = params.get("vs");
  const request = useMemo(
    () => ({
      symbol,
      legs: legsText,
      against: vs,
      entry,
      ahead,
      shift,
      scaled: params.get("scaled") === "1",
      as_of: asOf,
    }),
    [symbol, legsText, vs, entry, ahead, shift, params, asOf],
  );
  const answer = useStructure(request);
  const one = answer.data?.reply;
  const plans = usePlans(asOf).data?.plans.filter((plan) => plan.symbol === symbol) ?? [];
  const legs = useMemo(() => readLegs(legsText), [legsText]);
  const change = (next: Legs) => write({ legs: writeLegs(next) });
  const link = `/structure/${symbol}?${params}`;
  const label = one?.structure.label ?? "Structure";
  const why = useMemo(
    () => ({
      page: "Structures",
      words: one ? `${label} ${one.structure.words}` : symbol,
      link: link.length <= 1500 ? link : "",
      values: {},
    }),
    [one, label, symbol, link],
  );
  useEffect(() => setSubject({ symbol, why, asOf }), [symbol, why, asOf, setSubject]);
  const back = lastAddress("/structures");
  const origin = useScreenReason(symbol, params.get("from"), asOf);
  const keepOther = () => write({ vs: vs === legsText ? null : legsText }, true);
  useKeys({
    z: () => (window.history.length > 1 ? navigate(-1) : navigate(back)),
    v: keepOther,
    w: () => vs && write({ legs: vs, vs: legsText }, true),
    f: togglePlan,
  });
  const option = useMemo(() => one && payoffOption(one, colours), [one, colours]);
  const failed = answer.failureReason;
  const refused = failed instanceof ApiError && !failed.passing ? failed : null;
  if (!one)
    return failed ? (
      <Failed error={failed}>
        <p>
          <Link to={back}>To the search</Link>
        </p>
      </Failed>
    ) : (
      <Loading what="the structure" />
    );
  const { structure } = one;
  const sign = structure.cost !== null && structure.cost < 0 ? "credit" : "debit";
  return (
    <div className="one" aria-busy={answer.isPlaceholderData}>
      <header className="one-head">
        <h1>
          <Link to={asOfDay(`/dossier/${symbol}`, asOf)}>{symbol}</Link> {label}
        </h1>
        <span>{structure.words}</span>
        <span className="muted">{one.company}</span>
        <AsOf session={one.session} onWrite={write} />
        <span className="one-tools">
          <Link to={back} className="quiet">
            search (k)
          </Link>
          <button type="button" className="quiet" onClick={() => toggle(symbol, why)}>
            {has(symbol) ? "in the tray" : "to the tray (t)"}
          </button>
          <button type="button" className="quiet" aria-pressed={planning} onClick={togglePlan}>
            {plans.length > 0 ? `plans (${plans.length})` : "plan (f)"}
          </button>
        </span>
      </header>
      {refused && (
        <p className="notice" role="alert">
          {refused.message} What is shown is the structure before that.
        </p>
      )}
      {structure.problem && (
        <p className="notice" role="alert">
          It cannot be priced: {structure.problem}.
        </p>
      )}
      <div className="one-body">
        <div className="one-left">
          <Figure
            title="Profit over price"
            className="payoff"
            controls={
              <>
                <label>
                  in{" "}
                  <input
                    type="range"
                    min={0}
                    max={one.days}
                    step={0.5}
                    value={one.ahead}
                    aria-label="Days from now"
                    onChange={(event) => write({ ahead: event.target.value })}
                  />{" "}
                  {number(one.ahead, 0)} days
                </label>
                <span>
                  volatility{" "}
                  <Num
                    label="Shift of volatility in points"
                    value={shift}
                    onChange={(v) => write({ shift: v ? String(v) : null })}
                  />{" "}
                  points
                </span>
                <button
                  type="button"
                  className="quiet"
                  onClick={keepOther}
                  title="Lay the structure as it is now under others (v); w changes places"
                >
                  {vs ? (vs === legsText ? "not laid over" : "lay this one over") : "lay over (v)"}
                </button>
                {vs && vs !== legsText && (
                  <button type="button" className="quiet" onClick={() => write({ vs: null }, true)}>
                    take the other away
                  </button>
                )}
              </>
            }
            chart={
              option && (
                <>
                  <p className="caption">
                    Thick at the end, dashed {date(one.on)}, thin today{one.against && ", dotted the other"}; below
                    hollow the market, solid the past, dots the forecast.
                  </p>
                  <EChart
                    option={option}
                    label={`Profit of ${label} over the price of ${symbol}: greatest profit ${bound(structure.max_profit, structure.unbounded_profit)}, greatest loss ${bound(structure.max_loss, structure.unbounded_loss)}`}
                  />
                </>
              )
            }
            table={<PayoffTable one={one} />}
          />
          <LegsTable legs={legs} reply={one} onChange={change} />
        </div>
        <Scrolling label="What is said of it" className="one-right">
          <dl className="one-facts">
            <Fact name={sign === "credit" ? "Credit" : "Cost"}>
              {number(structure.cost === null ? null : Math.abs(structure.cost))} <span className="unit">$</span>
              <span className="muted">
                {" "}
                mid {number(structure.mid)}, worst side {number(structure.natural)}
              </span>
            </Fact>
            <Fact name="Greatest profit">{bound(structure.max_profit, structure.unbounded_profit)}</Fact>
            <Fact name="Greatest loss">{bound(structure.max_loss, structure.unbounded_loss)}</Fact>
            <Fact name="Capital">
              {metricText("$", 0, structure.capital)} <span className="unit">$</span>
              {structure.return_on_capital !== null && (
                <span className="muted"> {number(structure.return_on_capital, 1)} % may be made on it</span>
              )}
            </Fact>
            <Fact name="Breakevens">
              {structure.breakevens.length === 0
                ? "none"
                : structure.breakevens
                    .map((edge) => `${number(edge.price, 2)} (${signed(edge.moves, 2)} σ)`)
                    .join(", ")}
            </Fact>
            <Fact name="Ends">
              {date(one.first)}, {count(one.sessions, "session")}; priced to move ±
              {number((one.upper - one.lower) / 2, 2)}
            </Fact>
          </dl>
          <Verdicts structure={structure} words={WORDS} against={one.against} />
          <details className="one-record" onToggle={(event) => setRecord(event.currentTarget.open)}>
            <summary>What such chances were worth: said and came</summary>
            {record && <OpinionRecord symbol={symbol} asOf={asOf} />}
          </details>
          {one.flags.length > 0 && (
            <section>
              <h3>Facts to look at</h3>
              <ul className="one-flags">
                {one.flags.map((flag) => (
                  <li key={flag.words}>
                    {flag.on && <b>{date(flag.on)}</b>} {flag.words}
                  </li>
                ))}
              </ul>
            </section>
          )}
          <section>
            <h3>What it does by itself</h3>
            <table className="plain-table">
              <tbody>
                {one.what_if.map((what) => (
                  <tr key={what.words}>
                    <th scope="row">{what.words}</th>
                    <td>{signed(what.profit, 1)} $</td>
                  </tr>
                ))}
              </tbody>
            </table>
            <table className="plain-table">
              <thead>
                <tr>
                  <th>On</th>
                  <th>Profit</th>
                  <th>Delta</th>
                  <th>Gamma</th>
                  <th>Theta</th>
                  <th>Vega</th>
                </tr>
              </thead>
              <tbody>
                {one.path.map((at) => (
                  <tr key={at.days}>
                    <th scope="row">{date(at.date)}</th>
                    <td>{signed(at.profit, 0)}</td>
                    <td>{signed(at.delta, 1)}</td>
                    <td>{signed(at.gamma, 2)}</td>
                    <td>{signed(at.theta, 1)}</td>
                    <td>{signed(at.vega, 1)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            <p className="caption">
              Price and volatilities as they are. A unit of the structure; delta in shares, theta $ a day, vega $ a
              point.
            </p>
          </section>
          <Levels one={one} />
          {planning && origin !== undefined && (
            <PlanForm one={one} legs={legsText} why={why} origin={origin} plans={plans} />
          )}
        </Scrolling>
      </div>
    </div>
  );
}

const bound = (value: number | null, unbounded: boolean) =>
  unbounded ? "without bound" : value === null ? "–" : `${metricText("$", 0, value)} $`;

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div>
      <dt>{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}

/** Prices of the name worth seeing, how far they are, and what the structure makes there. */
function Levels({ one }: { one: OneReply }) {
  if (one.marks.length === 0) return null;
  const move = (one.upper - one.lower) / 2;
  const profitAt = (price: number) => {
    const i = one.prices.findIndex((p) => p >= price);
    const [low, high] = [one.prices[i - 1], one.prices[i]];
    const [a, b] = [one.structure.at_end[i - 1], one.structure.at_end[i]];
    if (low === undefined || high === undefined || a == null || b == null) return null;
    return a + ((b - a) * (price - low)) / (high - low);
  };
  return (
    <section>
      <h3>At prices that are known</h3>
      <table className="plain-table">
        <tbody>
          {[...one.marks]
            .sort((a, b) => b.price - a.price)
            .map((mark) => (
              <tr key={mark.label}>
                <th scope="row">{mark.label}</th>
                <td>{number(mark.price, 2)}</td>
                <td>{signed((mark.price - one.spot) / move, 2)} σ</td>
                <td>{signed(profitAt(mark.price), 0)} $</td>
              </tr>
            ))}
        </tbody>
      </table>
    </section>
  );
}

function PayoffTable({ one }: { one: OneReply }) {
  const step = Math.max(1, Math.floor(one.prices.length / 32));
  const places = one.prices.map((_, i) => i).filter((i) => i % step === 0);
  return (
    <table>
      <thead>
        <tr>
          <th>Price</th>
          <th>At the end</th>
          <th>On {date(one.on)}</th>
          <th>Today</th>
          {one.against && <th>The other at the end</th>}
        </tr>
      </thead>
      <tbody>
        {places.map((i) => (
          <tr key={one.prices[i]}>
            <td>{number(one.prices[i], 2)}</td>
            <td>{signed(one.structure.at_end[i], 0)}</td>
            <td>{signed(one.structure.between[i], 0)}</td>
            <td>{signed(one.structure.today[i], 0)}</td>
            {one.against && <td>{signed(one.against.at_end[i], 0)}</td>}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
