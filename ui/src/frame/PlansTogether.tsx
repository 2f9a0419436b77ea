import { useState } from "react";
import type { Schemas } from "@/shared/api/client";
import { useTogether } from "@/shared/api/queries";
import { count, DASH, date, number, signed } from "@/shared/format";
import { Link } from "@/shared/route";
import { oneAddress } from "@/shared/structures/one";
import { Failed, Loading } from "@/shared/ui/States";

type Plan = Schemas["PlanView"];
type Gains = Schemas["Gains"];

/** As many as are held together at once. */
const MOST = 60;
/** What they are called, their unit, and what that means. */
const GREEKS: [string, string, string][] = [
  ["Delta", "$ a σ", "What an expected day up of its name adds, $"],
  ["Gamma", "$ a σ²", "What an expected day up adds to delta, $"],
  ["Theta", "$ a day", "What a day that goes by adds, $"],
  ["Vega", "$ a point", "What a point of volatility adds, $"],
];

/** Plans side by side: what moves all of them at once, one unit of each. */
export function PlansTogether({ plans, asOf, onHide }: { plans: Plan[]; asOf: string | null; onHide: () => void }) {
  const [left, setLeft] = useState<ReadonlySet<number>>(new Set());
  const listed = plans.filter((plan) => plan.days_left >= 0).slice(0, MOST);
  const counted = listed.filter((plan) => !left.has(plan.id));
  const answer = useTogether({
    structures: counted.map(({ symbol, legs }) => ({ symbol, legs })),
    as_of: asOf,
  });
  const told = counted.length > 0 ? answer.data : undefined;
  const rows = new Map(told?.rows.map((row) => [`${row.symbol} ${row.legs}`, row]));
  if (answer.failureReason && !told) return <Failed error={answer.failureReason} />;
  if (!told && counted.length > 0) return <Loading what="them together" />;
  const total = told?.total ?? null;
  function toggle(id: number) {
    const next = new Set(left);
    if (!next.delete(id)) next.add(id);
    setLeft(next);
  }
  return (
    <>
      <table className="plain-table together" aria-label="Plans together" aria-busy={answer.isPlaceholderData}>
        <thead>
          <tr>
            <th rowSpan={2} scope="col">
              Counted
            </th>
            <th rowSpan={2} scope="col">
              Structure
            </th>
            {GREEKS.map(([greek, , title]) => (
              <th key={greek} scope="col" title={title}>
                {greek}
              </th>
            ))}
            {(told?.moves ?? []).map((move) => (
              <th key={move} scope="col" title={`When every name moves by ${signed(move, 0)} expected days at once, $`}>
                {signed(move, 0)} σ
              </th>
            ))}
            <th scope="col">Worst day</th>
          </tr>
          <tr>
            {GREEKS.map(([greek, unit]) => (
              <th key={greek}>{unit}</th>
            ))}
            {(told?.moves ?? []).map((move) => (
              <th key={move}>$</th>
            ))}
            <th>{told?.worst_on ? `${date(told.worst_on, true)}, $` : "$"}</th>
          </tr>
        </thead>
        <tbody>
          {listed.map((plan) => {
            const row = rows.get(`${plan.symbol} ${plan.legs}`);
            return (
              <tr key={plan.id}>
                <th scope="row">
                  <label>
                    <input type="checkbox" checked={!left.has(plan.id)} onChange={() => toggle(plan.id)} />{" "}
                    {plan.symbol}
                    <span className="visually-hidden">
                      , {plan.label} {plan.words}
                    </span>
                  </label>
                </th>
                <td className="words">
                  <Link to={`${oneAddress(`${plan.symbol} ${plan.legs}`)}&plan=1`} onClick={onHide}>
                    {plan.label} {plan.words}
                  </Link>
                  {row?.problem && <div className="muted">Not counted: {row.problem}</div>}
                </td>
                <Cells gains={row?.gains ?? null} moves={told?.moves.length ?? 0} />
              </tr>
            );
          })}
        </tbody>
        {total && (
          <tfoot>
            <tr>
              <th scope="row">Together</th>
              <td className="words">{count(told?.rows.filter((row) => row.gains).length ?? 0, "structure")}</td>
              <Cells gains={total} moves={told?.moves.length ?? 0} />
            </tr>
          </tfoot>
        )}
      </table>
      {plans.length > listed.length && (
        <p className="muted">
          {count(plans.length - listed.length, "plan is", "plans are")} not listed here: over, or more than {MOST}.
        </p>
      )}
      {told && told.symbols.length > 1 && <Correlations symbols={told.symbols} told={told.correlation} />}
      <p className="muted">
        One unit of each, from what it is worth now. σ is the move that each name’s options price for the next session:
        $ a σ is what one such day up adds.{" "}
        {told?.worst_on
          ? `The worst day is that of ${number(told.sessions)} sessions on which all these names traded that would have cost them most together, with each name's return of that day.`
          : total
            ? "There is no session on which all these names traded."
            : "No plan is counted."}
      </p>
    </>
  );
}

function Cells({ gains, moves }: { gains: Gains | null; moves: number }) {
  const values = gains
    ? [gains.delta, gains.gamma, gains.theta, gains.vega, ...gains.at_moves, gains.worst]
    : Array.from({ length: GREEKS.length + moves + 1 }, () => null);
  return values.map((value, place) => (
    // biome-ignore lint/suspicious/noArrayIndexKey: a cell is its column
    <td key={place}>{value === null ? DASH : signed(value, 0)}</td>
  ));
}

/** How the names' daily returns go with each other, from -1 to 1. */
function Correlations({ symbols, told }: { symbols: string[]; told: (number | null)[][] }) {
  return (
    <table className="plain-table correlations">
      <caption>Correlation of daily returns</caption>
      <thead>
        <tr>
          <th>
            <span className="visually-hidden">Name</span>
          </th>
          {symbols.slice(0, -1).map((symbol) => (
            <th key={symbol} scope="col">
              {symbol}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {symbols.slice(1).map((symbol, row) => (
          <tr key={symbol}>
            <th scope="row">{symbol}</th>
            {symbols.slice(0, -1).map((other, place) => {
              const value = place <= row ? told[row + 1]?.[place] : undefined;
              return <td key={other}>{value === undefined ? "" : <Share value={value} />}</td>;
            })}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** A correlation with a bar of its size. */
function Share({ value }: { value: number | null }) {
  return (
    <span className="share">
      <span
        aria-hidden="true"
        className={value !== null && value < 0 ? "bar against" : "bar"}
        style={{ width: 40 * Math.abs(value ?? 0) }}
      />
      {value === null ? DASH : number(value, 2)}
    </span>
  );
}
