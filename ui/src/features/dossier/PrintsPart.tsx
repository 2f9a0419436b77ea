import type { Schemas } from "@/shared/api/client";
import { useLines, useNamePrints } from "@/shared/api/queries";
import { clock, compact, count, date, number, signed } from "@/shared/format";
import { PrintWindow, readDays } from "@/shared/ui/PrintWindow";
import { RecordTable } from "@/shared/ui/RecordTable";
import { Scrolling } from "@/shared/ui/Scrolling";
import { Failed, Loading, NotKept } from "@/shared/ui/States";
import type { PartProps } from "./part";
import { ShelvesFigure } from "./ShelvesFigure";

type Data = Schemas["PrintsView"];

/** One name's off-exchange prints: where they piled up, whether price turned there, and how that stands beside chance. */
export function PrintsPart({ symbol, at, params, onWrite }: PartProps) {
  const days = readDays(params);
  const dated = { ...(days.first && { first: days.first }), ...(days.last && { last: days.last }) };
  const answer = useNamePrints(symbol, { ...at, sessions: days.sessions, ...dated });
  const data = answer.data;
  const { lines } = useLines(symbol, at);
  const failed = answer.failureReason;
  const told = data?.first_session && data.last_session ? { first: data.first_session, last: data.last_session } : null;
  const tools = <PrintWindow days={days} told={told} onWrite={onWrite} />;
  if (!data || (failed && !answer.isFetching))
    return failed ? (
      <div className="dossier-body prints">
        <div className="dossier-column">
          <div className="figure-controls">{tools}</div>
          <Failed error={failed} />
        </div>
      </div>
    ) : (
      <Loading what="the prints" />
    );
  return (
    <div className="dossier-body prints" aria-busy={answer.isPlaceholderData}>
      <div className="dossier-column">
        <section className="figure">
          <header>
            <h2>
              Shelves{" "}
              {!data.reason && (
                <span className="aside">
                  {count(data.shelves.length, "price")} where ${compact(data.notional)} piled up
                  {data.share_pct !== null && `, ${number(data.share_pct, 1)} % of the volume`}
                </span>
              )}
            </h2>
            <div className="figure-controls">{tools}</div>
          </header>
          {data.reason ? (
            <NotKept what="Off-exchange prints" kind="prints">
              Nothing to show: {data.reason}.
            </NotKept>
          ) : (
            <>
              <ShelvesFigure data={data} lines={lines} />
              <p className="caption">
                ▲▼ held: price turned back from the shelf; × broke: two closes beyond it; ○ not decided. Shelves are
                tested as they were known the evening before, by the prints of {data.tested_over} sessions.
              </p>
            </>
          )}
        </section>
        <Record data={data} />
      </div>
      <div className="dossier-column">
        {data.shelves.length > 0 && <Shelves data={data} />}
        {data.tests.length > 0 && <Tests data={data} />}
        {data.bursts.length > 0 && <Bursts data={data} />}
      </div>
    </div>
  );
}

function Record({ data }: { data: Data }) {
  return (
    <section className="figure record">
      <header>
        <h2>
          The record <span className="aside">shelves beside the same distance on the other side of price</span>
        </h2>
      </header>
      <RecordTable rows={data.record} />
      <p className="caption">
        A print says what changed hands at which price, and not whether it was bought or sold: there is always one of
        each, and who wanted it is not told.
      </p>
    </section>
  );
}

function Shelves({ data }: { data: Data }) {
  const others = data.notional > 0 ? (100 * data.outside) / data.notional : 0;
  return (
    <section className="figure shelves">
      <header>
        <h2>
          Shelves by price <span className="aside">{number(others, 0)} % of the window lies in none</span>
        </h2>
      </header>
      <Scrolling label="Shelves by price">
        <table>
          <thead>
            <tr>
              <th>Price</th>
              <th title="Lowest and highest price that it takes">From to</th>
              <th>Notional $</th>
              <th title="Of all notional in the window">Share %</th>
              <th title="Bursts">Bursts</th>
              <th title="From the price now, in one-day expected moves and in percent">Away σ</th>
              <th title="Tests of shelves over this price, by what came of them">Held · broke</th>
            </tr>
          </thead>
          <tbody>
            {data.shelves.map((shelf) => (
              <tr key={shelf.price}>
                <th scope="row">{number(shelf.price, 2)}</th>
                <td>
                  {number(shelf.low, 2)}–{number(shelf.high, 2)}
                </td>
                <td>{compact(shelf.notional)}</td>
                <td>{number(shelf.share_pct, 1)}</td>
                <td>{number(shelf.count)}</td>
                <td title={`${signed(shelf.away_pct, 2)} %`}>{signed(shelf.away_moves, 1)}</td>
                <td>
                  {shelf.held} · {shelf.broke}
                  {shelf.open > 0 && <small> {shelf.open} open</small>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scrolling>
    </section>
  );
}

function Tests({ data }: { data: Data }) {
  return (
    <section className="figure tests">
      <header>
        <h2>
          Tests{" "}
          <span className="aside">
            {data.tests.length < data.tests_total
              ? `the newest ${data.tests.length} of ${number(data.tests_total)}`
              : "newest first"}
          </span>
        </h2>
      </header>
      <Scrolling label="Tests of shelves">
        <table>
          <thead>
            <tr>
              <th>Reached</th>
              <th title="The shelf as it was known the evening before">Shelf</th>
              <th title="Of the notional then">Share %</th>
              <th>From</th>
              <th>Came of it</th>
              <th title="Bars until it was decided: of a quarter of an hour where there are minutes, else days">
                Bars
              </th>
            </tr>
          </thead>
          <tbody>
            {data.tests.map((test) => (
              <tr key={`${test.at} ${test.price}`}>
                <th scope="row">
                  {date(test.at)} <small>{test.day ? "" : clock(test.at).slice(0, 5)}</small>
                </th>
                <td title={`${number(test.low, 2)} to ${number(test.high, 2)}`}>{number(test.price, 2)}</td>
                <td>{number(test.share_pct, 0)}</td>
                <td>{test.came_from}</td>
                <td>{test.outcome === "open" ? <span className="muted">not decided</span> : test.outcome}</td>
                <td>{number(test.bars)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scrolling>
    </section>
  );
}

function Bursts({ data }: { data: Data }) {
  return (
    <section className="figure bursts">
      <header>
        <h2>
          Largest prints{" "}
          <span className="aside">
            {count(data.prints, "print")}, those that make levels in {count(data.bursts_total, "burst")}
          </span>
        </h2>
      </header>
      <Scrolling label="Largest prints">
        <table>
          <thead>
            <tr>
              <th>At</th>
              <th>Price</th>
              <th>Shares</th>
              <th>Notional $</th>
              <th title="Of all notional in the window that makes levels">Share %</th>
              <th>Prints</th>
              <th data-kind="text">Told as</th>
            </tr>
          </thead>
          <tbody>
            {data.bursts.map((burst) => (
              <tr key={`${burst.at} ${burst.price} ${burst.shares}`}>
                <th scope="row">
                  {date(burst.at)} <small>{clock(burst.at)}</small>
                </th>
                <td>{number(burst.price, 2)}</td>
                <td>{number(burst.shares)}</td>
                <td>{compact(burst.notional)}</td>
                <td>{number(burst.share_pct, 1)}</td>
                <td>{number(burst.prints)}</td>
                <td data-kind="text">{burst.conditions.length ? `${burst.conditions.join(", ")}: no level` : ""}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scrolling>
    </section>
  );
}
