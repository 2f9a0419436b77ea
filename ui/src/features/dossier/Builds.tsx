import type { ReactNode } from "react";
import type { Schemas } from "@/shared/api/client";
import { compact, date, number, signedCompact } from "@/shared/format";
import { Scrolling } from "@/shared/ui/Scrolling";
import type { Write } from "./part";

type Data = Schemas["PositioningView"];

const KINDS = { builds: "builds", unwinds: "unwinds", spreads: "likely spreads" } as const;
type Kind = keyof typeof KINDS;

const right = (isCall: boolean) => (isCall ? <b className="calls">call</b> : <b className="puts">put</b>);

/** Where open interest was built and given up since yesterday, contracts first. */
export function Builds({ data, params, onWrite }: { data: Data; params: URLSearchParams; onWrite: Write }) {
  const asked = params.get("changes") ?? "";
  const kind: Kind = asked === "unwinds" || asked === "spreads" ? asked : "builds";
  return (
    <section className="figure builds">
      <header>
        <h2>
          Open interest <span className="aside">since yesterday</span>
        </h2>
        <div className="figure-controls">
          <select
            aria-label="Changes of open interest"
            value={kind}
            onChange={(event) => onWrite({ changes: event.target.value === "builds" ? null : event.target.value })}
          >
            {Object.entries(KINDS).map(([key, words]) => (
              <option key={key} value={key}>
                {words} ({key === "spreads" ? data.spreads.length : data[key as "builds" | "unwinds"].length})
              </option>
            ))}
          </select>
        </div>
      </header>
      <Scrolling label="Contracts">
        {kind === "spreads" ? <Spreads data={data} /> : <Changes rows={data[kind]} none={kind} />}
      </Scrolling>
    </section>
  );
}

function Nothing({ children }: { children: ReactNode }) {
  return <p className="muted small">{children}</p>;
}

function Changes({ rows, none }: { rows: Schemas["Build"][]; none: string }) {
  if (rows.length === 0) return <Nothing>No {none} since yesterday, or no chain of yesterday to compare with.</Nothing>;
  return (
    <table>
      <thead>
        <tr>
          <th>Contract</th>
          <th>Change</th>
          <th>%</th>
          <th>Before</th>
          <th title="Contracts traded today">Vol</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={`${row.expiration}${row.strike}${row.is_call}`}>
            <th scope="row">
              {date(row.expiration)} {number(row.strike, row.strike % 1 ? 2 : 0)} {right(row.is_call)}
            </th>
            <td>{signedCompact(row.change)}</td>
            <td className={row.small_base ? "small-base" : undefined}>
              {row.percent === null ? (row.new ? "new" : "from 0") : signedCompact(Math.round(row.percent))}
              {row.small_base && row.percent !== null && (
                <abbr title="Fewer than 100 were open before: the percentage says nothing"> small base</abbr>
              )}
            </td>
            <td>{compact(row.before)}</td>
            <td>{compact(row.volume)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Spreads({ data }: { data: Data }) {
  if (data.spreads.length === 0)
    return <Nothing>No two strikes of one expiration gained the same amount of 100 contracts or more.</Nothing>;
  return (
    <table>
      <thead>
        <tr>
          <th>As much at two strikes</th>
          <th>Contracts</th>
          <th title="At mid, or of the fitted surface where a quote is missing or too wide">Cost $</th>
          <th title="For all contracts">Total $</th>
        </tr>
      </thead>
      <tbody>
        {data.spreads.map((row) => (
          <tr key={`${row.expiration}${row.lower}${row.upper}${row.is_call}`}>
            <th scope="row">
              {date(row.expiration)} {number(row.lower, row.lower % 1 ? 2 : 0)} /{" "}
              {number(row.upper, row.upper % 1 ? 2 : 0)} {right(row.is_call)}
            </th>
            <td>{compact(row.contracts)}</td>
            <td>
              {number(row.cost, 2)}
              {row.fitted && <abbr title="Of the fitted surface: a quote is missing or too wide"> fit</abbr>}
            </td>
            <td>{compact(row.total)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
