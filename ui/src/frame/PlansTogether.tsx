import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "@/shared/api/client";
import { useTogether } from "@/shared/api/queries";
import { count, DASH, date, number, signed } from "@/shared/format";
import { oneAddress } from "@/shared/structures/one";
import { Failed, Loading } from "@/shared/ui/States";

type Plan = Schemas["PlanView"];
type Gains = Schemas["Gains"];

/** As many as are held together at once. */
const MOST = 60;

/** Plans side by side: what moves all of them at once, one unit of each. */
export function PlansTogether({ plans, asOf, onHide }: { plans: Plan[]; asOf: string | null; onHide: () => void }) {
  const [left, setLeft] = useState<ReadonlySet<number>>(new Set());
  const listed = plans.filter((plan) => plan.days_left >= 0).slice(0, MOST);
  const counted = listed.filter((plan) => !left.has(plan.id));
  const wanted = counted.map((plan) => `${plan.symbol} ${plan.legs}`).join("\n");
  const request = useMemo(
    () => ({
      structures: wanted
        .split("\n")
        .filter(Boolean)
        .map((key) => ({ symbol: key.slice(0, key.indexOf(" ")), legs: key.slice(key.indexOf(" ") + 1) })),
      as_of: asOf,
    }),
    [wanted, asOf],
  );
  const answer = useTogether(request);
  const told = counted.length > 0 ? answer.data : undefined;
  const rows = new Map(told?.rows.map((row) => [`${row.symbol} ${row.legs}`, row]));
  if (answer.failureReason && !told) return <Failed error={answer.failureReason} />;
  if (!told && counted.length > 0) return <Loading what="them together" />;
  const total = told?.total ?? null;
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
            <th scope="col" title="What an expected day up of its name adds, $">
              Delta
            </th>
            <th scope="col" title="What an expected day up adds to delta, $">
              Gamma
            </th>
            <th scope="col" title="What a day that goes by adds, $">
              Theta
            </th>
            <th scope="col" title="What a point of volatility adds, $">
              Vega
            </th>
            {(told?.moves ?? []).map((move) => (
              <th key={move} scope="col" title={`When every name moves by ${signed(move, 0)} expected days at once, $`}>
                {signed(move, 0)} σ
              </th>
            ))}
            <th scope="col">Worst day</th>
          </tr>
          <tr>
            <th>$ a σ</th>
            <th>$ a σ²</th>
            <th>$ a day</th>
            <th>$ a point</th>
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
                    <input
                      type="checkbox"
                      checked={!left.has(plan.id)}
                      onChange={() =>
                        setLeft(
                          new Set(left.has(plan.id) ? [...left].filter((id) => id !== plan.id) : [...left, plan.id]),
                        )
                      }
                    />{" "}
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
          : "There is no session on which all these names traded."}
      </p>
    </>
  );
}

function Cells({ gains, moves }: { gains: Gains | null; moves: number }) {
  const values = gains
    ? [gains.delta, gains.gamma, gains.theta, gains.vega, ...gains.at_moves, gains.worst]
    : Array.from({ length: moves + 5 }, () => null);
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
