import type { ReactNode } from "react";
import { asOfDay, useAsOf } from "@/shared/address";
import type { Schemas } from "@/shared/api/client";
import { useFacts, useMetricMap } from "@/shared/api/queries";
import { compact, count, DASH, date, metricText, moment, number, signed } from "@/shared/format";
import { Link } from "@/shared/route";
import { Defined } from "@/shared/ui/Defined";
import { Missing } from "@/shared/ui/Missing";
import { Scrolling } from "@/shared/ui/Scrolling";
import { Failed, Loading } from "@/shared/ui/States";
import { ReportsTable } from "./PastReports";
import type { PartProps } from "./part";

type Data = Schemas["FactsView"];
type Figure = "eps_ttm" | "sales_ttm" | "book" | "fcf_ttm" | "debt_to_equity";

const FIGURES: [Figure, string, string][] = [
  ["eps_ttm", "EPS $", "eps_ttm"],
  ["sales_ttm", "Sales $", "sales_per_share"],
  ["book", "Book $", "book_per_share"],
  ["fcf_ttm", "Cash flow $", "fcf_per_share"],
  ["debt_to_equity", "Debt ×", "debt_to_equity"],
];

/** What a name is, what it reported and when that became known, and what is expected, paid, shorted and priced. */
export function FactsPart({ symbol, at }: PartProps) {
  const answer = useFacts(symbol, at);
  const data = answer.data;
  if (!data) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="the facts" />;
  return (
    <div className="dossier-body facts" aria-busy={answer.isPlaceholderData}>
      <div className="dossier-column">
        <What data={data} />
        <Ratios data={data} />
      </div>
      <div className="dossier-column">
        {data.quarters.length > 0 ? (
          <Quarters data={data} />
        ) : (
          <p className="not-kept">
            {data.kind === "stock" ? "Nothing had been reported by then." : "Only companies report."}
          </p>
        )}
        {data.reports.length > 0 && (
          <Part title="Reports" aside="what was priced and what came">
            <ReportsTable reports={data.reports} />
          </Part>
        )}
        {data.members.length > 0 && <Weights title="Members" rows={data.members} />}
      </div>
      <div className="dossier-column">
        {data.news.length > 0 && <News data={data} />}
        {data.estimates.length > 0 && <Estimates data={data} />}
        {data.short_interest.length > 0 && <Short data={data} />}
        {data.dividends.length > 0 && <Dividends data={data} />}
        {data.funds.length > 0 && <Weights title="Funds that hold it" rows={data.funds} />}
      </div>
    </div>
  );
}

function Part({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  return (
    <section className="figure">
      <header>
        <h2>
          {title} {aside && <span className="aside">{aside}</span>}
        </h2>
      </header>
      <Scrolling label={title}>{children}</Scrolling>
    </section>
  );
}

function What({ data }: { data: Data }) {
  return (
    <section className="figure what">
      <header>
        <h2>What it is</h2>
      </header>
      <p>
        {data.kind === "fund" ? "A fund" : data.kind === "index" ? "An index" : "A company"}
        {data.kind === "stock" && data.sector && ` of ${data.sector}`}
        {data.listed_on ? `, listed on ${date(data.listed_on, true)}.` : ". Nobody told since when it is listed."}
        {data.shares_outstanding !== null && (
          <>
            {" "}
            <Defined by="shares_outstanding">{compact(data.shares_outstanding)} shares</Defined>
            {data.float_shares !== null && (
              <>
                , of which <Defined by="float_shares">{compact(data.float_shares)} trade</Defined>
              </>
            )}
            .
          </>
        )}
      </p>
      {data.book_says && (
        <div className="book-says">
          <p>
            <b>{data.book_says}</b>
          </p>
          <dl>
            {data.book.map((one) => (
              <div key={one.source}>
                <dt>
                  Source {one.source}{" "}
                  <Defined by={one.source === 1 ? "price_to_book" : "price_to_book_second"}>
                    <b>{one.price_to_book === null ? DASH : number(one.price_to_book, 2)}</b>
                  </Defined>
                </dt>
                <dd>
                  {one.period_end && one.known_on ? (
                    <>
                      book of {date(one.period_end, true)}, known since {date(one.known_on, true)}
                      {one.stale && <b>: old</b>}
                    </>
                  ) : (
                    "nothing reported"
                  )}
                </dd>
              </div>
            ))}
          </dl>
        </div>
      )}
    </section>
  );
}

function Ratios({ data }: { data: Data }) {
  const metrics = useMetricMap();
  return (
    <Part title="Against the price">
      <table>
        <tbody>
          {data.ratios.map((ratio) => {
            const metric = metrics.get(ratio.key);
            return (
              <tr key={ratio.key}>
                <th scope="row" data-kind="text">
                  <Defined by={ratio.key}>{metric?.label ?? ratio.key}</Defined>
                </th>
                <td>
                  {ratio.value === null ? (
                    <Missing why={ratio.reason ?? "there is no value"} />
                  ) : (
                    `${ratio.key === "market_cap" ? compact(ratio.value) : metricText(metric?.unit ?? "", metric?.decimals ?? 2, ratio.value)} ${metric?.unit === "0–100" ? "" : (metric?.unit ?? "")}`
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </Part>
  );
}

function Quarters({ data }: { data: Data }) {
  const newest = data.quarters[0];
  return (
    <Part
      title="As first reported"
      aside={
        newest && (
          <>
            the newest period ended {count(newest.age_days, "day")} ago
            {data.stale && <b>: a newer report is overdue</b>}
          </>
        )
      }
    >
      <table className="quarters">
        <thead>
          <tr>
            <th data-kind="text">Period to</th>
            <th data-kind="text" title="The two sources of the same reports">
              Source
            </th>
            <th>Known on</th>
            {FIGURES.map(([key, label, metric]) => (
              <th key={key}>
                <Defined by={metric}>{label}</Defined>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {data.quarters.flatMap((quarter) =>
            ([1, 2] as const).flatMap((source) => {
              const told = source === 1 ? quarter.first : quarter.second;
              if (!told) return [];
              return [
                <tr key={`${quarter.period_end} ${source}`} className={source === 1 ? "first" : "second"}>
                  <th scope="row">{source === 1 || !quarter.first ? date(quarter.period_end, true) : ""}</th>
                  <td data-kind="text">{source}</td>
                  <td>{date(told.known_on, true)}</td>
                  {FIGURES.map(([key]) => {
                    const gap = quarter.apart[key];
                    return (
                      <td
                        key={key}
                        className={gap === undefined ? undefined : "apart"}
                        title={
                          gap === undefined ? undefined : `The first source is ${signed(gap, 0)} % from the second`
                        }
                      >
                        {number(told[key], 2)}
                        {gap !== undefined && source === 2 && <small> {signed(gap, 0)} %</small>}
                      </td>
                    );
                  })}
                </tr>,
              ];
            }),
          )}
        </tbody>
      </table>
    </Part>
  );
}

function News({ data }: { data: Data }) {
  return (
    <Part title="News" aside={<Defined by="news_count">headlines</Defined>}>
      <table className="news">
        <tbody>
          {data.news.map((one) => (
            <tr key={`${one.at} ${one.headline}`}>
              <th scope="row" data-kind="text">
                <time dateTime={one.at}>{moment(one.at)}</time>
              </th>
              <td data-kind="text">
                {one.headline} {one.topic && <span className="muted">{one.topic}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Part>
  );
}

function Estimates({ data }: { data: Data }) {
  return (
    <Part title="Expected by analysts">
      <table>
        <thead>
          <tr>
            <th>Known on</th>
            <th>
              <Defined by="eps_next_year">EPS next year $</Defined>
            </th>
            <th>
              <Defined by="fair_value">Price target $</Defined>
            </th>
          </tr>
        </thead>
        <tbody>
          {data.estimates.map((one) => (
            <tr key={one.known_on}>
              <th scope="row">{date(one.known_on, true)}</th>
              <td>{number(one.eps_next_year, 2)}</td>
              <td>{number(one.fair_value, 2)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Part>
  );
}

function Short({ data }: { data: Data }) {
  const most = Math.max(...data.short_interest.map((one) => one.shares));
  return (
    <Part title="Sold short">
      <table>
        <thead>
          <tr>
            <th>Settled</th>
            <th>Known on</th>
            <th>
              <Defined by="short_shares">Shares</Defined>
            </th>
            <th>
              <Defined by="short_percent_float">Of float %</Defined>
            </th>
            <th>
              <Defined by="short_change">Change %</Defined>
            </th>
            <th aria-label="Shares against the most of these" />
          </tr>
        </thead>
        <tbody>
          {data.short_interest.map((one) => (
            <tr key={one.settled_on}>
              <th scope="row">{date(one.settled_on, true)}</th>
              <td>{date(one.known_on)}</td>
              <td>{compact(one.shares)}</td>
              <td>{number(one.float_pct, 1)}</td>
              <td>{signed(one.change_pct, 0)}</td>
              <td>
                <svg width={48} height={12} aria-hidden="true">
                  <rect className="did" x={0} y={3} width={Math.max(1, (48 * one.shares) / most)} height={6} />
                </svg>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Part>
  );
}

function Dividends({ data }: { data: Data }) {
  return (
    <Part title="Dividends">
      <table>
        <thead>
          <tr>
            <th>Ex-date</th>
            <th>Declared</th>
            <th>Amount $</th>
          </tr>
        </thead>
        <tbody>
          {data.dividends.map((one) => (
            <tr key={one.ex_date}>
              <th scope="row">
                {date(one.ex_date, true)}
                {one.ahead && <b> ahead</b>}
              </th>
              <td>{date(one.declared_on, true)}</td>
              <td>{number(one.amount, 2)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Part>
  );
}

function Weights({ title, rows }: { title: string; rows: Schemas["Membership"][] }) {
  const asOf = useAsOf();
  return (
    <Part title={title}>
      <table>
        <thead>
          <tr>
            <th data-kind="text">Name</th>
            <th>Weight %</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one) => (
            <tr key={one.symbol}>
              <th scope="row" data-kind="text">
                <Link to={asOfDay(`/dossier/${one.symbol}?view=facts`, asOf)}>{one.symbol}</Link>{" "}
                <span className="muted">{one.company}</span>
              </th>
              <td>{number(one.weight_pct, 1)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Part>
  );
}
