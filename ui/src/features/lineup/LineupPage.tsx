import { useEffect, useMemo } from "react";
import { useSubject } from "@/frame/subject";
import { useAddress, useAsOf } from "@/shared/address";
import type { Schemas } from "@/shared/api/client";
import { useBaskets, useLineup, useMetrics } from "@/shared/api/queries";
import { number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { AsOf } from "@/shared/ui/AsOf";
import { Empty, Failed, Loading } from "@/shared/ui/States";
import { Correlation } from "./Correlation";
import { Fund } from "./Fund";
import { BASELINES, ORDERS, type Order, ordered, sourcesOf } from "./lines";
import { OneAxis } from "./OneAxis";
import { Scatter } from "./Scatter";

const VIEWS = [
  ["axis", "On one axis"],
  ["scatter", "Against each other"],
  ["correlation", "Correlation"],
  ["fund", "Fund and members"],
] as const;
type View = (typeof VIEWS)[number][0];

/** Across this group, whose volatility is out of line with the others and with its own past? */
export default function LineupPage() {
  const [params, write] = useAddress();
  const baskets = useBaskets();
  const metrics = useMetrics();
  const { setSubject } = useSubject();
  const asOf = useAsOf();
  const source = params.get("of") ?? "sector:Optics & Orbital";
  const metric = params.get("metric") ?? "iv30";
  const baseline = BASELINES.find(([key]) => key === params.get("base"))?.[0] ?? "mean252";
  const own = params.get("own") ?? "iv60";
  const x = params.get("x") ?? "hv21";
  const y = params.get("y") ?? "iv30";
  const order: Order = ORDERS.find(([key]) => key === params.get("order"))?.[0] ?? "ratio";
  const rising = params.get("rising") === "1";
  const request: Schemas["LineupRequest"] = useMemo(
    () => ({ source, metric, baseline, own: baseline === "own" ? own : "", x, y, as_of: asOf }),
    [source, metric, baseline, own, x, y, asOf],
  );
  const answer = useLineup(request);
  const data = answer.data;
  const rows = useMemo(() => (data ? ordered(data.rows, order, rising) : []), [data, order, rising]);
  const isFund = source.startsWith("members:");
  const asked = VIEWS.find(([key]) => key === params.get("view"))?.[0] ?? "axis";
  const view: View = asked === "fund" && !isFund ? "axis" : asked;
  const show = (key: View) => write({ view: key === "axis" ? null : key }, true);
  const shown = VIEWS.filter(([key]) => key !== "fund" || isFund);
  useKeys(Object.fromEntries(shown.map(([key], i) => [String(i + 1), () => show(key)])));
  useEffect(() => {
    document.title = "Lineup · Flinch";
    return () => {
      document.title = "Flinch";
    };
  }, []);
  const choices = sourcesOf(baskets.data);
  const called = choices.flatMap(([, entries]) => entries).find(([value]) => value === source)?.[1] ?? source;
  // A very long expression does not fit into what the tray keeps.
  const address = `/lineup?${params}`;
  const link = address.length <= 1500 ? address : "/lineup";
  const focus = (row: Schemas["LineupRow"]) => {
    write({ at: row.symbol });
    setSubject({
      symbol: row.symbol,
      why: {
        page: "Lineup",
        words: `Lineup of ${called}: ${number(row.value, 1)} against ${number(row.baseline, 1)}, ${data?.baseline.label ?? ""}`,
        link,
        values: Object.fromEntries(
          [
            [metric, row.value],
            [data?.baseline.expression ?? "", row.baseline],
          ].filter(
            (pair): pair is [string, number] => typeof pair[1] === "number" && metrics.some((m) => m.key === pair[0]),
          ),
        ),
      },
    });
  };
  const problem = answer.failureReason;
  return (
    <div className="lineup">
      <header className="lineup-head">
        <h1>Lineup</h1>
        <label>
          of{" "}
          <select
            aria-label="Names to line up"
            value={source}
            onChange={(event) => write({ of: event.target.value, at: null }, true)}
          >
            {choices.map(([group, entries]) => (
              <optgroup key={group} label={group}>
                {entries.map(([value, words]) => (
                  <option key={value} value={value}>
                    {words}
                  </option>
                ))}
              </optgroup>
            ))}
          </select>
        </label>
        {view === "axis" && (
          <>
            <MetricField
              label="by"
              name="Metric"
              value={metric}
              metrics={metrics}
              onChange={(key) => write({ metric: key })}
            />
            <label>
              against{" "}
              <select aria-label="Baseline" value={baseline} onChange={(event) => write({ base: event.target.value })}>
                {BASELINES.map(([key, words]) => (
                  <option key={key} value={key}>
                    {words}
                  </option>
                ))}
              </select>
            </label>
            {baseline === "own" && (
              <MetricField
                label=""
                name="Own baseline"
                value={own}
                metrics={metrics}
                onChange={(key) => write({ own: key })}
              />
            )}
            <label>
              ordered by{" "}
              <select aria-label="Order" value={order} onChange={(event) => write({ order: event.target.value })}>
                {ORDERS.map(([key, words]) => (
                  <option key={key} value={key}>
                    {words}
                  </option>
                ))}
              </select>
            </label>
            <button type="button" className="quiet" onClick={() => write({ rising: rising ? null : "1" })}>
              {rising ? "lowest first" : "highest first"}
            </button>
          </>
        )}
        {view === "scatter" && (
          <>
            <MetricField
              label="across"
              name="Across"
              value={x}
              metrics={metrics}
              onChange={(key) => write({ x: key })}
            />
            <MetricField label="up" name="Up" value={y} metrics={metrics} onChange={(key) => write({ y: key })} />
          </>
        )}
        <div className="lineup-views">
          <fieldset className="segments">
            <legend className="visually-hidden">View</legend>
            {shown.map(([key, words]) => (
              <label key={key} className={key === view ? "chosen" : undefined}>
                <input type="radio" name="lineup-view" checked={key === view} onChange={() => show(key)} />
                {words}
              </label>
            ))}
          </fieldset>
          <AsOf session={data?.session ?? null} onWrite={write} />
        </div>
      </header>
      {problem && !answer.isFetching ? (
        <Failed error={problem} />
      ) : !data ? (
        <Loading what="the names" />
      ) : data.rows.length === 0 ? (
        <Empty>
          <p>Nobody is in this group yet. Put names in the tray, or choose another group above.</p>
        </Empty>
      ) : view === "scatter" ? (
        <Scatter data={data} source={called} link={link} onFocus={focus} />
      ) : view === "correlation" ? (
        <Correlation rows={rows} asOf={asOf} params={params} onWrite={write} />
      ) : view === "fund" && data.fund ? (
        <Fund fund={data.fund} />
      ) : (
        <OneAxis data={data} rows={rows} focused={params.get("at")} onFocus={focus} />
      )}
    </div>
  );
}

/** A metric to choose from the list, or any expression to type. */
function MetricField({
  label,
  name,
  value,
  metrics,
  onChange,
}: {
  label: string;
  name: string;
  value: string;
  metrics: Schemas["MetricEntry"][];
  onChange: (text: string) => void;
}) {
  const take = (text: string) => text.trim() && text.trim() !== value && onChange(text.trim());
  return (
    <label>
      {label}{" "}
      <input
        key={value}
        list={`lineup-${name}`}
        className="over-text"
        aria-label={name}
        defaultValue={value}
        maxLength={1000}
        spellCheck={false}
        onChange={(event) =>
          metrics.some((m) => m.key === event.target.value && m.kind === "number") && take(event.target.value)
        }
        onBlur={(event) => take(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      />
      <datalist id={`lineup-${name}`}>
        {metrics
          .filter((m) => m.kind === "number")
          .map((m) => (
            <option key={m.key} value={m.key}>
              {m.label}
            </option>
          ))}
      </datalist>
    </label>
  );
}
