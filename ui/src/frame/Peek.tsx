import type { ReactNode } from "react";
import { asOfDay } from "@/shared/address";
import type { Metric, Schemas } from "@/shared/api/client";
import { useMetrics, usePeek, useTray } from "@/shared/api/queries";
import { LevelBracket, MoveBracket } from "@/shared/chart/BracketBar";
import { VolatilitySpark } from "@/shared/chart/Spark";
import { arrow, DASH, date, metricText, moment, number, signed } from "@/shared/format";
import { Link } from "@/shared/route";
import { Definition } from "@/shared/ui/Definition";
import { Missing } from "@/shared/ui/Missing";
import { Failed } from "@/shared/ui/States";

type Facts = Schemas["Peek"]["facts"];

/** The focused name at a glance. */
export function Peek({
  symbol,
  asOf,
  figure,
  until = null,
}: {
  symbol: string | null;
  asOf: string | null;
  /** What the page at hand shows of it. */
  figure?: ReactNode;
  /** A time of the session that the page at hand looks at. */
  until?: string | null;
}) {
  const peek = usePeek(symbol, asOf);
  const metrics = useMetrics();
  const entry = useTray().data?.items.find((item) => item.symbol === symbol);
  const shown = peek.data;
  if (symbol === null) return <p className="muted peek-empty">Walk through a list and the focused name shows here.</p>;
  if (!shown) return peek.failureReason ? <Failed error={peek.failureReason} /> : null;
  const value = (key: string) => shown.facts[key]?.value ?? null;
  const change = value("change_pct");
  const level = Math.max(value("iv30") ?? 0, value("hv21") ?? 0) * 1.12 || 1;
  return (
    <div className={peek.isPlaceholderData ? "peek-body waiting" : "peek-body"}>
      <header>
        <h2>
          <Link to={asOfDay(`/dossier/${shown.symbol}`, asOf)}>{shown.symbol}</Link>
        </h2>
        <p>{shown.company}</p>
        <p className="muted">{shown.kind === "stock" ? shown.sector : shown.kind}</p>
        <p className="peek-ways">
          <Link to={asOfDay(`/structures?u=name:${shown.symbol}`, asOf)}>
            structures <kbd>g</kbd>
          </Link>
        </p>
        {(asOf || until) && (
          <p className="past">
            as of {date(shown.session, true)}
            {asOf?.includes("T") && ` ${asOf.slice(11)}`}
            {until && `, ${until}`}
          </p>
        )}
      </header>
      {until ? (
        <>
          {figure}
          <p className="caption">What the rest of the session brought is not shown.</p>
        </>
      ) : (
        <>
          <div className="peek-today">
            <span className="big">{number(value("price"), 2)}</span>
            <span>
              {arrow(change)} {signed(change, 2)} %
            </span>
          </div>
          <MoveBracket moved={change} expected={value("one_day_move_pct")} width={228} height={26} />
          <p className="caption">
            {value("spent") === null
              ? (shown.facts.spent?.reason ?? DASH)
              : `${number(value("spent"))} % of today’s ±${number(value("one_day_move_pct"), 2)} % spent; next session ±${number(value("next_day_move_pct"), 2)} %`}
          </p>
          {figure}
          {shown.news && (
            <p className="peek-news">
              <time dateTime={shown.news.at}>{moment(shown.news.at)}</time> {shown.news.headline}
            </p>
          )}
          <LevelBracket implied={value("iv30")} historical={value("hv21")} most={level} width={228} height={26} />
          <p className="caption">implied, hollow · historical, solid</p>
          <VolatilitySpark implied={shown.iv30} historical={shown.hv21} width={228} />
          <p className="caption">one year</p>
          <FactList facts={shown.facts} metrics={metrics} />
        </>
      )}
      {entry && (
        <section className="peek-why">
          <h3>In the tray because of</h3>
          <p>{entry.why.link ? <Link to={entry.why.link}>{entry.why.words}</Link> : entry.why.words}</p>
          {Object.keys(entry.why.values).length > 0 && (
            <>
              <p className="caption">Its values when it came:</p>
              <FactList
                metrics={metrics}
                facts={Object.fromEntries(
                  Object.entries(entry.why.values).map(([k, v]) => [k, { value: v, reason: null }]),
                )}
              />
            </>
          )}
        </section>
      )}
    </div>
  );
}

function FactList({ facts, metrics }: { facts: Facts; metrics: Metric[] }) {
  const listed = metrics.filter((metric) => metric.key in facts);
  return (
    <dl className="facts">
      {listed.map((metric) => {
        const fact = facts[metric.key];
        const text = metricText(metric.unit, metric.decimals, fact?.value);
        return (
          <div key={metric.key}>
            <Definition metric={metric}>
              <dt>
                {metric.short} <span className="unit">{metric.unit}</span>
              </dt>
            </Definition>
            <dd>{fact?.reason ? <Missing why={fact.reason} /> : text}</dd>
          </div>
        );
      })}
    </dl>
  );
}
